package upstreams

import (
	"cmp"
	"context"
	"encoding/json"
	"iter"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

// WhenceQuery says of which package and where it is asked.
type WhenceQuery struct {
	ground.Paging
	ground.Selecting
	Package string `query:"package" required:"true" minLength:"1" maxLength:"200" doc:"Name of a package, as the package manager writes it"`
}

// offers is what the places of the fleet offer under one name.
type offers struct {
	packages map[string][]index.Package       // by the key of a place
	unread   map[string]string                // why it is not known what a place offers
	releases map[string]*upstream.ReleaseFile // apt
}

// offered looks a package up in every place.
func (u *Upstreams) offered(ctx context.Context, name string) (*offers, error) {
	list, _, _, _, err := u.places(ctx)
	if err != nil {
		return nil, err
	}
	o := &offers{map[string][]index.Package{}, map[string]string{}, map[string]*upstream.ReleaseFile{}}
	for _, x := range list {
		look := u.sights.look(x.Digest, &x.Place)
		if look.Found == nil {
			o.unread[x.Digest] = cmp.Or(look.Why, "it has not been looked at yet")
			continue
		}
		o.releases[x.Digest] = look.Found.Release
		packages, err := u.ListOf(ctx, x.Digest, look)
		if err != nil {
			o.unread[x.Digest] = "what it offered was not kept"
			continue
		}
		if found := slices.Collect(packages.Named(name)); len(found) > 0 {
			o.packages[x.Digest] = found
		}
	}
	return o, nil
}

// familiesOf are those whose package managers a host has, its own first.
func familiesOf(h *choice.Host) (out []string) {
	if h.Survey.Traits.Family != "" {
		out = append(out, h.Survey.Traits.Family)
	}
	if slices.ContainsFunc(h.Uses, func(u *upstream.Use) bool { return u.Family == flatpak.Family }) {
		out = append(out, flatpak.Family)
	}
	return out
}

// choose tells what a host takes, in each of its families that knows the name.
func (o *offers) choose(h *choice.Host, name, installed string) (out []choice.Choice, unread []string) {
	with := h.With(o.releases)
	all := h.Offered(func(key string) iter.Seq[index.Package] { return slices.Values(o.packages[key]) })
	for i := range h.Uses {
		u := h.Uses[i]
		if why, un := o.unread[u.Key]; un {
			unread = append(unread, strings.TrimSpace(u.Address()+" "+u.Suite)+": "+why)
		}
	}
	slices.Sort(unread)
	for i, f := range familiesOf(h) {
		if i > 0 {
			installed = "" // hosts are asked of their own package manager
		}
		c := with.Choose(f, name, all, installed)
		if i == 0 || len(c.Offers) > 0 {
			out = append(out, c)
		}
	}
	if len(out) > 1 && len(out[0].Offers) == 0 && out[0].Installed == "" {
		out = out[1:]
	}
	return out, slices.Compact(unread)
}

// Whence tells from where hosts would get a package.
func (u *Upstreams) Whence(ctx context.Context, in *WhenceQuery) (*api.Whence, error) {
	hosts, revision, err := u.pickedFor(ctx, in.Selecting)
	if err != nil {
		return nil, err
	}
	u.Asked.Add([]source.SheetNeed{{Packages: []string{in.Package}}}, u.Now().Add(ground.AskTime))
	o, err := u.offered(ctx, in.Package)
	if err != nil {
		return nil, err
	}
	out := api.Whence{Package: in.Package, Rows: []api.WhenceRow{}, Revision: revision}
	type like struct {
		host      *choice.Host
		installed string
		asked     bool
	}
	alike := map[like][]*fleet.View{}
	for _, h := range hosts {
		v := h.Row()
		if v.Survey == "" {
			out.Unknown++
			continue
		}
		decides, err := u.Compute.Deciding(ctx, v.Survey)
		if err != nil {
			return nil, err
		}
		k := like{host: decides}
		if p := fleet.PackagesOf(v); p.Knows(in.Package) {
			k.installed, k.asked = p.Installed[in.Package], true
		}
		alike[k] = append(alike[k], v)
		out.Hosts++
	}
	rows := map[string]*api.WhenceRow{}
	for k, list := range alike {
		choices, unread := o.choose(k.host, in.Package, k.installed)
		if len(unread) > 0 {
			out.Unsure += len(list)
		}
		nowhere := true
		for _, c := range choices {
			nowhere = nowhere && len(c.Offers) == 0
			if len(unread) > 0 {
				c.Doubt()
			}
			addRow(rows, &c, unread, k.asked, list)
		}
		if nowhere {
			out.Nowhere += len(list)
		}
	}
	list := make([]api.WhenceRow, 0, len(rows))
	for _, r := range rows {
		slices.Sort(r.Names)
		r.Names = r.Names[:min(len(r.Names), ground.MostNames)]
		slices.Sort(r.OS)
		r.OS = slices.Compact(r.OS)
		list = append(list, *r)
	}
	slices.SortFunc(list, func(a, b api.WhenceRow) int {
		return cmp.Or(cmp.Compare(min(len(b.Offers), 1), min(len(a.Offers), 1)), b.Hosts-a.Hosts, slices.Compare(a.Names, b.Names))
	})
	out.Total = len(list)
	from, to := in.Cut(len(list))
	out.Next = in.Next(len(list))
	out.Rows = append(out.Rows, list[from:to]...)
	return &out, nil
}

// addRow adds hosts to the row of those for which the answer is the same.
func addRow(rows map[string]*api.WhenceRow, c *choice.Choice, unread []string, asked bool, list []*fleet.View) {
	b, err := json.Marshal([]any{c, unread, asked})
	if err != nil { // of texts and numbers
		return
	}
	r := rows[string(b)]
	if r == nil {
		r = &api.WhenceRow{Choice: *c, Unread: append([]string{}, unread...), Asked: asked, Names: []string{}}
		if r.Offers == nil {
			r.Offers = []choice.Offered{}
		}
		rows[string(b)] = r
	}
	for _, v := range list {
		r.Hosts++
		r.Names = append(r.Names, v.Name)
		if !slices.Contains(r.OS, v.OS) {
			r.OS = append(r.OS, v.OS)
		}
	}
}

// pickedFor are the hosts that are meant, and the newest revision, whose groups they are.
func (u *Upstreams) pickedFor(ctx context.Context, in ground.Selecting) ([]*fleet.Host, int64, error) {
	rs, revision, err := u.Newest(ctx)
	if err != nil {
		return nil, 0, err
	}
	list, _, err := u.Picked(ctx, rs, in, u.Fleet.All())
	if err == nil && len(list) == 0 && in.Some() {
		err = refusal.Conflict("no host is meant by " + in.Words())
	}
	return list, revision, err
}
