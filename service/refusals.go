package service

import (
	"context"
	"errors"

	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// Refusal is the refusal that an error stands for; nil where something broke.
func Refusal(err error) *refusal.Error {
	var no *refusal.Error
	switch {
	case errors.As(err, &no):
		return no
	case errors.Is(err, store.ErrDamaged):
		return refusal.Of(refusal.Unavailable,
			"something is damaged in the database: what hosts have told is asked for again, so try again in a minute; "+
				"a folder has to be published again")
	case errors.Is(err, store.ErrNotFound):
		return refusal.Of(refusal.Missing, err.Error())
	case errors.Is(err, fleet.ErrAmbiguous):
		return refusal.Of(refusal.Conflicting, err.Error())
	case errors.Is(err, context.Canceled):
		return refusal.Of(refusal.Left, "the caller has gone")
	}
	return nil
}
