package datadir

// Views describes rows one by one.
func Views[R, V any](rows []R, view func(R) (*V, error)) ([]V, error) {
	out := make([]V, 0, len(rows))
	for _, r := range rows {
		v, err := view(r)
		if err != nil {
			return nil, err
		}
		out = append(out, *v)
	}
	return out, nil
}
