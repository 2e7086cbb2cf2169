package store

import (
	"errors"
	"fmt"

	"patientlantern.example/lantern/core/source"
)

// ErrDamaged is what reading a document comes to of which something else stands in the database than was stored.
var ErrDamaged = errors.New("is damaged in the database")

// Lost reports whether an error tells of a document that cannot be had, or not any more.
func Lost(err error) bool { return errors.Is(err, ErrDamaged) || errors.Is(err, ErrNotFound) }

// mostDamaged bounds how many documents wait to be told of: those beyond are met again.
const mostDamaged = 100

// Damaged tells of documents that were found damaged. They are known no more, and what is stored under their name takes their place.
func (s *Store) Damaged() <-chan Document { return s.damaged }

// spoilt notes that a document is damaged, and says so.
func (s *Store) spoilt(digest, kind string, why error) error {
	s.known.forget(Document{Digest: digest, Kind: kind})
	select {
	case s.damaged <- Document{Digest: digest, Kind: kind}:
	default:
	}
	return fmt.Errorf("%s %s %w: %w", kind, digest, ErrDamaged, why)
}

// misread is why a document could not be read: itself, or what the database made of it.
func (s *Store) misread(digest, kind string, body []byte, why error) error {
	if source.Digest(body) != digest {
		return s.spoilt(digest, kind, why)
	}
	return fmt.Errorf("%s %s: %w", kind, digest, why)
}

// forget makes documents unknown.
func (d *digests) forget(gone ...Document) {
	d.Lock()
	defer d.Unlock()
	for _, x := range gone {
		if d.kinds[x.Digest] &^= kinds[x.Kind]; d.kinds[x.Digest] == 0 {
			delete(d.kinds, x.Digest)
		}
	}
}
