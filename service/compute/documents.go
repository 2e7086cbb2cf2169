package compute

import (
	"context"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/wire"
)

func document[T any](
	ctx context.Context, c *Computer, kept *memo.Cache[string, *T], read func([]byte, any) error, kind, digest string,
) (*T, error) {
	return kept.Get(digest, func() (*T, error) {
		v := new(T)
		err := c.store.ReadDocument(context.WithoutCancel(ctx), digest, kind, func(body []byte) error { return read(body, v) })
		if err != nil {
			return nil, err
		}
		return v, nil
	})
}

// TraitsOf reads traits by their digest.
func (c *Computer) TraitsOf(ctx context.Context, digest string) (*source.Traits, error) {
	return document(ctx, c, c.traits, wire.Read, store.KindTraits, digest)
}

// Told reports whether a host tells what its policy goes by, so that it is known what the policy wants of it.
func (c *Computer) Told(ctx context.Context, v *fleet.View) bool {
	if v.Broken != "" || v.Survey == "" || v.Traits == "" {
		return false
	}
	if v.Revision == 0 {
		return true
	}
	rs, err := c.Revision(ctx, v.Revision)
	if err != nil {
		return false
	}
	res, err := c.Resolve(ctx, rs, v)
	return err == nil && len(res.Trouble) == 0
}

// SurveyOf reads a survey by its digest.
func (c *Computer) SurveyOf(ctx context.Context, digest string) (*source.Survey, error) {
	return document(ctx, c, c.surveys, c.parts.Read, store.KindSurvey, digest)
}

// SheetOf reads a sheet by its digest.
func (c *Computer) SheetOf(ctx context.Context, digest string) (*source.Sheet, error) {
	return document(ctx, c, c.sheets, c.parts.Read, store.KindSheet, digest)
}

// ReleasesOf returns what the Release files say that the apt of a host has fetched.
func (c *Computer) ReleasesOf(ctx context.Context, survey string) ([]source.Release, error) {
	return c.releases.Get(survey, func() ([]source.Release, error) {
		su, err := c.SurveyOf(ctx, survey)
		if err != nil {
			return nil, err
		}
		return su.Releases, nil
	})
}

// filesOf returns what files a survey names, of which nothing else is wanted.
func (c *Computer) filesOf(ctx context.Context, survey string) ([]source.File, error) {
	return c.files.Get(survey, func() ([]source.File, error) {
		var of struct {
			Files []source.File `json:"files"`
		}
		err := c.store.ReadDocument(context.WithoutCancel(ctx), survey, store.KindSurvey, func(body []byte) error {
			return c.parts.Read(body, &of)
		})
		if err != nil {
			return nil, err
		}
		for i := range of.Files {
			f := &of.Files[i]
			f.Path, f.Digest, f.Mode = Same(f.Path), Same(f.Digest), Same(f.Mode)
		}
		return of.Files, nil
	})
}

// TextsOf returns the source files that a survey names.
func (c *Computer) TextsOf(ctx context.Context, files []source.File) (map[string][]byte, error) {
	out := make(map[string][]byte, len(files))
	for _, f := range files {
		text, err := c.texts.Get(f.Digest, func() ([]byte, error) {
			d, err := c.store.Document(context.WithoutCancel(ctx), f.Digest, store.KindText)
			return d.Body, err
		})
		if err != nil {
			return nil, err
		}
		out[f.Path] = text
	}
	return out, nil
}
