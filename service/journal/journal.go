// Package journal has the words of the journal: who had something done, what was done, and to
// what. Every change of the service's state leaves an entry of it.
package journal

import (
	"context"
	"encoding/json"
	"time"

	"patientlantern.example/lantern/store"
)

// Actor is who has something changed: an operator, a host, or the service by itself.
type Actor struct{ Kind, Name string }

// Kinds of actor.
const (
	ActorOperator = "operator"
	ActorHost     = "host"
	ActorService  = "service"
)

func (a Actor) String() string {
	if a.Name == "" {
		return a.Kind
	}
	return a.Kind + ":" + a.Name
}

// Caller is whoever calls.
type Caller interface{ Actor() Actor }

type contextKey struct{}

// With is a context of a call that somebody makes.
func With(ctx context.Context, who Caller) context.Context {
	return context.WithValue(ctx, contextKey{}, who)
}

// Who is behind a call; nil where nobody called.
func Who(ctx context.Context) Caller {
	c, _ := ctx.Value(contextKey{}).(Caller)
	return c
}

// By tells who is behind a call; the service itself where nobody called.
func By(ctx context.Context) Actor {
	if c := Who(ctx); c != nil {
		return c.Actor()
	}
	return Actor{Kind: ActorService}
}

// Commands that no operator's call is named after. The others have the names of their
// operations.
const (
	CommandCheckIn    = "check-in"       // a host says how it stands
	CommandReport     = "report"         // a host says how carrying went
	CommandCount      = "count-hosts"    // the service counts how the fleet stands, each hour
	CommandWithdraw   = "withdraw"       // a host stops before it has touched anything
	CommandJoin       = "join"           // a host joins
	CommandTwins      = "twins"          // two machines check in with one identity
	CommandAppear     = "appear"         // a host that was silent, or new, is heard of
	CommandFallSilent = "fall-silent"    // nothing is heard of a host any more
	CommandLeave      = "leave-behind"   // a rollout goes on without hosts
	CommandWaiverEnds = "waiver-ends"    // a waiver came to its end
	CommandKeysEnd    = "keys-end"       // a signing key came to its end
	CommandSeats      = "tend-seats"     // desks were asked
	CommandRenew      = "renew-access"   // access of a host was renewed
	CommandLook       = "look"           // a look at an upstream came to another end than the one before
	CommandSelfHeal   = "heal-by-itself" // healing that the policy wants and nobody asked for
)

// Commands are those that nobody asks for: hosts and the service give them.
func Commands() []string {
	return []string{
		CommandCheckIn, CommandReport, CommandCount, CommandWithdraw, CommandJoin, CommandTwins, CommandAppear, CommandFallSilent,
		CommandLeave, CommandWaiverEnds, CommandKeysEnd, CommandSeats, CommandRenew, CommandLook, CommandSelfHeal,
	}
}

// Kinds of what changes: those of api.AuditKinds.
const (
	KindHost       = "host"
	KindRollout    = "rollout"
	KindRevision   = "revision"
	KindProposal   = "proposal"
	KindWaiver     = "waiver"
	KindFreeze     = "freeze"
	KindSeats      = "seats"
	KindRepository = "repository" // a place of packages
	KindOperator   = "operator"
	KindSecrets    = "secrets"
	KindWebhook    = "webhook"
	KindShelf      = "shelf"
	KindDay        = "day"
)

// At is an entry about something of a kind.
func At(at time.Time, by Actor, command, kind, name string) store.Entry {
	return store.Entry{At: at, Actor: by.String(), Command: command, Kind: kind, Name: name}
}

// Told reports whether whoever listens may know of an entry: who may sign in is not
// everybody's business.
func Told(e store.Entry) bool { return e.Kind != KindOperator && e.Kind != KindSecrets }

// Detailed adds what the journal keeps of an entry beside its name.
func Detailed(e store.Entry, detail any) store.Entry {
	b, err := json.Marshal(detail)
	if err != nil { // of texts and numbers
		return e
	}
	e.Detail = b
	return e
}
