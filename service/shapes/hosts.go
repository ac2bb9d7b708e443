package shapes

import (
	"encoding/json"

	"velvetrewind/api"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host/wire"
)

// Host shows a host, and the names of the copies on it.
func Host(k catalog.Host, connected bool, copies []string) (api.Host, error) {
	var about wire.About
	err := json.Unmarshal(k.About, &about)
	v := api.Host{ID: k.ID, Name: k.Name, Connected: connected, JoinedAt: k.JoinedAt.UTC(), Address: k.Address, Velvet: about.Velvet,
		Users: Each(about.Users, same), Directory: about.Copies,
		Databases: Each(about.Databases, same), Majors: Each(about.Majors, same), Free: about.Free, Memory: about.Memory,
		Cores: about.Cores, MostCopies: about.MostCopies, MostBytes: about.MostBytes, Copies: Each(copies, same)}
	if k.SeenAt.Valid {
		t := k.SeenAt.Time.UTC()
		v.SeenAt = &t
	}
	return v, err
}

func same[T any](v T) T { return v }
