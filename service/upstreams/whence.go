package upstreams

import (
	"cmp"
	"context"
	"encoding/json"
	"iter"
	"slices"
	"strings"
	"sync"

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
	says     sync.Map                         // of what is unread, by *upstream.Use, which many hosts have in common
}

// offered looks a package up in every place.
func (u *Upstreams) offered(ctx context.Context, name string) (*offers, error) {
	list, _, _, _, err := u.places(ctx)
	if err != nil {
		return nil, err
	}
	o := &offers{packages: map[string][]index.Package{}, unread: map[string]string{}, releases: map[string]*upstream.ReleaseFile{}}
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
			says, known := o.says.Load(u)
			if !known {
				says = strings.TrimSpace(u.Address()+" "+u.Suite) + ": " + why
				o.says.Store(u, says)
			}
			unread = append(unread, says.(string))
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
	alike, err := u.alikeFor(ctx, hosts, in.Package, &out)
	if err != nil {
		return nil, err
	}
	if err := fleet.ByBlocks(alike, func(x *alikeHosts) error { return x.choose(o, in.Package) }); err != nil {
		return nil, err
	}
	rows := map[string]*api.WhenceRow{}
	for _, x := range alike {
		if len(x.unread) > 0 {
			out.Unsure += x.hosts
		}
		nowhere := true
		for i := range x.choices {
			nowhere = nowhere && len(x.choices[i].Offers) == 0
			x.addTo(rows, i)
		}
		if nowhere {
			out.Nowhere += x.hosts
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

// alikeHosts are hosts for which the answer is the same.
type alikeHosts struct {
	host      *choice.Host
	installed string
	asked     bool // they have said whether it is installed
	hosts     int
	names     []string // of the first of them
	systems   []string

	choices []choice.Choice
	texts   []string // of the choices and what belongs to them: the rows that they stand in
	unread  []string
}

// alikeFor puts hosts together for which the answer is the same, by name, and counts them.
func (u *Upstreams) alikeFor(ctx context.Context, hosts []*fleet.Host, name string, out *api.Whence) (list []*alikeHosts, err error) {
	type like struct {
		host      *choice.Host
		installed string
		asked     bool
	}
	alike := map[like]*alikeHosts{}
	now := u.Now()
	for _, h := range hosts {
		v := h.Row()
		if v.Survey == "" {
			out.Unknown++
			continue
		}
		var k like
		if k.host, err = u.Compute.Deciding(ctx, v.Survey); err != nil {
			return nil, err
		}
		if p := fleet.PackagesOf(v); p.Knows(name) {
			k.installed, k.asked = p.Installed[name], true
		}
		x := alike[k]
		if x == nil {
			x = &alikeHosts{host: k.host, installed: k.installed, asked: k.asked}
			alike[k], list = x, append(list, x)
		}
		x.hosts++
		if out.Hosts++; h.Past(now) {
			out.Silent++
		}
		if len(x.names) < ground.MostNames {
			x.names = append(x.names, v.Name)
		}
		if !slices.Contains(x.systems, v.OS) {
			x.systems = append(x.systems, v.OS)
		}
	}
	return list, nil
}

// choose works out what the hosts take.
func (x *alikeHosts) choose(o *offers, name string) error {
	x.choices, x.unread = o.choose(x.host, name, x.installed)
	x.texts = make([]string, len(x.choices))
	for i := range x.choices {
		c := &x.choices[i]
		if len(x.unread) > 0 {
			c.Doubt()
		}
		b, err := json.Marshal([]any{c, x.unread, x.asked})
		if err != nil {
			return err
		}
		x.texts[i] = string(b)
	}
	return nil
}

// addTo adds hosts to the row of those for which a choice is the same.
func (x *alikeHosts) addTo(rows map[string]*api.WhenceRow, i int) {
	r := rows[x.texts[i]]
	if r == nil {
		r = &api.WhenceRow{Choice: x.choices[i], Unread: append([]string{}, x.unread...), Asked: x.asked, Names: []string{}}
		if r.Offers == nil {
			r.Offers = []choice.Offered{}
		}
		rows[x.texts[i]] = r
	}
	r.Hosts += x.hosts
	r.Names = append(r.Names, x.names...)
	r.OS = append(r.OS, x.systems...)
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
