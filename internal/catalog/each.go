package catalog

// Each turns rows into what is shown of them, one by one.
func Each[R, V any](rows []R, view func(R) (*V, error)) ([]V, error) {
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
