package policies

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/service/rollouts"
)

// placesSaid says which places a folder would bring to hosts though the service saw them refused, and counts
// those that hosts would get packages from, by whether it is known what stands there.
func (s *Policies) placesSaid(ctx context.Context, p *prepared) (out []diag.Diagnostic, err error) {
	if p.resolver == nil {
		return nil, nil
	}
	b := s.upstreams.NewBrings(p.resolver.Policy())
	all, unknown := map[string]bool{}, map[string]bool{}
	hosts, why := map[string]int{}, map[string]*api.RefusedPlace{}
	for f, n := range p.alike {
		list, err := b.Wants(ctx, f.res, f.traits)
		if err != nil {
			return nil, err
		}
		var had map[string]string
		for _, x := range list {
			refused, known := s.upstreams.RefusedAt(x.Brought)
			all[x.Place] = true
			if !known {
				unknown[x.Place] = true
			}
			if refused == nil {
				continue
			}
			if had == nil { // few are refused, and reading what was carried takes long
				if had, err = b.Had(ctx, f.carried, f.traits); err != nil {
					return nil, err
				}
			}
			if had[x.Place] != x.Deciders {
				why[x.Place] = refused
				hosts[x.Place] += n
			}
		}
	}
	p.looked.Places, p.looked.Unseen = len(all)-len(unknown), len(unknown)
	for _, key := range slices.Sorted(maps.Keys(why)) {
		x := b.All[key]
		d := diag.Diagnostic{
			Code: "upstream-refused", Severity: diag.Warning, Remedy: why[key].Remedy,
			Message: fmt.Sprintf("%s would get packages from %s, which the service saw refused: %s", rollouts.Plural(hosts[key]),
				strings.TrimSpace(x.Address()+" "+x.Suite), why[key].Says),
		}
		for _, name := range slices.Sorted(maps.Keys(x.Names)) {
			if r := p.resolver.Policy().Repositories[name]; r != nil {
				d.Pos = r.Pos
				break
			}
		}
		out = append(out, d)
	}
	diag.Sort(out)
	return out, nil
}
