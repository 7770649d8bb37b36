package catalog

// Described is of what a description is.
type Described string

// What can be described.
const (
	DescribedPolicy Described = "policy"
	DescribedRoute  Described = "route"
	DescribedGroup  Described = "group"
	DescribedSite   Described = "site"
)

// Descriptions are those of a kind, by name.
func (c *Catalog) Descriptions(kind Described) (map[string]string, error) {
	var rows []struct {
		Name string `db:"name"`
		Text string `db:"text"`
	}
	if err := c.db.Select(&rows, `SELECT name, text FROM descriptions WHERE kind=?`, kind); err != nil {
		return nil, err
	}
	all := make(map[string]string, len(rows))
	for _, r := range rows {
		all[r.Name] = r.Text
	}
	return all, nil
}

// Describe stores a description; an empty one is taken away.
func (c *Catalog) Describe(kind Described, name, text string) error {
	if text == "" {
		_, err := c.db.Exec(`DELETE FROM descriptions WHERE kind=? AND name=?`, kind, name)
		return err
	}
	_, err := c.db.Exec(`INSERT OR REPLACE INTO descriptions (kind,name,text) VALUES (?,?,?)`, kind, name, text)
	return err
}
