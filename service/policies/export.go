package policies

import (
	"context"
	"fmt"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/refusal"
)

// ExportIn says whose files are exported.
type ExportIn struct {
	Body api.ExportOrder
}

// Export tells which files a host would have, for images and for hosts that nobody reaches.
func (s *Policies) Export(ctx context.Context, in *ExportIn) (*api.Export, error) {
	r, err := s.Pick(ctx, in.Body.Revision)
	if err != nil {
		return nil, err
	}
	rs, err := s.Compute.Revision(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	who, err := s.exported(ctx, &in.Body)
	if err != nil {
		return nil, err
	}
	res := s.Compute.ResolveHost(rs, who)
	if len(res.Trouble) > 0 {
		return nil, refusal.Conflict("the policy cannot be resolved for this host: " + res.Trouble[0].String())
	}
	out := api.Export{
		Host:     who.Name,
		Revision: r.Number,
		Sheet:    res.Text(),
		Digest:   res.Digest(),
		Files:    []source.SheetFile{},
		Left:     []string{},
	}
	for _, f := range res.Sheet.Files {
		if !f.IfThere { // kept off where they stand; made nowhere
			out.Files = append(out.Files, f)
		}
	}
	for _, rule := range res.Sheet.InPlace {
		out.Left = append(out.Left, fmt.Sprintf("%s: entries of the distribution's own are edited where they stand", rule.Repository))
	}
	if len(res.Sheet.Locks) > 0 { // an image that has none yet; agent carry keeps what stands in a list
		out.Files = append(out.Files, source.SheetFile{Path: zypp.Locks, Mode: "0644", Text: string(zypp.Arrange(nil, res.Sheet.Locks))})
	}
	for _, a := range res.Sheet.Access {
		out.Left = append(
			out.Left,
			fmt.Sprintf("%s: the access needs a seat, and the service that gives it", strings.Join(a.Repositories, ", ")),
		)
	}
	if res.Sheet.Family == arch.Family && len(res.Sheet.Keys) > 0 {
		out.Left = append(out.Left, "signing keys are taken into pacman's keyring")
	}
	return &out, nil
}

// exported is the host that an export is for.
func (s *Policies) exported(ctx context.Context, in *api.ExportOrder) (resolve.Host, error) {
	if in.Traits != nil {
		labels := in.Labels
		if labels == nil {
			labels = map[string]string{}
		}
		// Its class is its own: nothing that is remembered of others is of it.
		return resolve.Host{
			Name:   strings.ToLower(in.Host),
			Class:  "export " + in.Host + fmt.Sprint(*in.Traits, labels),
			Labels: labels,
			Traits: in.Traits,
		}, nil
	}
	h, err := s.FindHost(in.Host)
	if err != nil {
		return resolve.Host{}, err
	}
	who, err := s.Compute.HostOf(ctx, h.Row())
	if err != nil {
		return who, refusal.Conflict(fmt.Sprintf("%s has sent no survey yet; say what it is with traits", h.Row().Name))
	}
	return who, nil
}
