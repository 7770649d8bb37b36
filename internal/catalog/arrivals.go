package catalog

// Arrival is what arrived of a volume from other sites.
type Arrival struct {
	Volume string `db:"volume"`
	Copies int    `db:"copies"`
	Last   Time   `db:"last"`
	Newest Time   `db:"newest"`
}

// Arrivals is what arrived at a place, by volume.
func (c *Catalog) Arrivals(place string) (map[string]Arrival, error) {
	var rows []Arrival
	if err := c.db.Select(&rows, `SELECT volume, COUNT(*) AS copies, MAX(arrived) AS last, MAX(began) AS newest
		FROM snapshots WHERE place=? AND arrived>0 AND hidden=0 GROUP BY volume`, place); err != nil {
		return nil, err
	}
	all := make(map[string]Arrival, len(rows))
	for _, r := range rows {
		all[r.Volume] = r
	}
	return all, nil
}
