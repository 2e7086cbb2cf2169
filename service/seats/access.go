package seats

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/desk"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// NoAccess is the kind of error for a desk that answers and gives a host nothing that
// opens its sources. Whatever else goes wrong passes, and takes nothing from the host.
type NoAccess struct{ error }

func (e NoAccess) Unwrap() error { return e.error }

// Secret returns the access of a host's seat, of a kind; where there is none that
// is good, the desk is asked for it.
func (k *Keeper) Secret(ctx context.Context, host, account, kind string) (credential.Secret, error) {
	s, ok := k.Seat(host, account)
	if !ok {
		return credential.Secret{}, fmt.Errorf("the host has no seat in the account %s", account)
	}
	if s.Kind == kind && len(s.Access) > 0 && s.Expires.After(k.now()) {
		return k.unseal(s)
	}
	return k.issue(ctx, host, account, kind)
}

func (k *Keeper) unseal(s store.Seat) (credential.Secret, error) {
	var out credential.Secret
	plain, err := k.vault.Open(s.Access)
	if err != nil {
		return out, fmt.Errorf("the access of %s in the account %s: %w", s.Host, s.Account, err)
	}
	defer clear(plain)
	if json.Unmarshal(plain, &out) != nil {
		return out, fmt.Errorf("the access of %s in the account %s is damaged", s.Host, s.Account)
	}
	return out, nil
}

// issue asks the desk for new access and keeps it, encrypted.
func (k *Keeper) issue(ctx context.Context, host, accountName, kind string) (credential.Secret, error) {
	a, err := k.Account(accountName)
	if err != nil {
		return credential.Secret{}, err
	}
	a.calls.Lock()
	defer a.calls.Unlock()
	s, ok := k.Seat(host, accountName)
	if !ok {
		return credential.Secret{}, fmt.Errorf("the host has no seat in the account %s", accountName)
	}
	var secret credential.Secret
	err = k.withDesk(ctx, a, func(d *desk.Account) (err error) {
		secret, err = d.Access(ctx, s.Contract, host, kind)
		return err
	})
	if err == nil && secret.Kind != kind {
		err = NoAccess{fmt.Errorf("the desk gave access of kind %s, not %s", secret.Kind, kind)}
	}
	now := k.now()
	if err == nil {
		if bad := secret.Check(now); bad != nil {
			k.mu.RLock()
			if a.skew > mostSkew || a.skew < -mostSkew {
				bad = fmt.Errorf("%w (the desk's clock is off by %s)", bad, a.skew.Round(time.Minute))
			}
			k.mu.RUnlock()
			err = NoAccess{fmt.Errorf("the desk's access cannot be used: %w", bad)}
		}
	}
	// A login of the organisation that is not taken is the account's trouble, not this
	// host's, and is noted there.
	var no *desk.Refusal
	if errors.As(err, &no) && !no.LoginRefused() {
		err = NoAccess{err}
	}
	var none NoAccess
	if errors.As(err, &none) {
		k.mu.Lock()
		k.refused[[2]string{host, accountName}] = noRenewal{said: err.Error()}
		k.mu.Unlock()
	}
	if err != nil {
		return credential.Secret{}, err
	}
	plain, err := json.Marshal(secret)
	if err != nil {
		return credential.Secret{}, err
	}
	defer clear(plain)
	s.Kind, s.Expires, s.Issued = kind, secret.Expires.UTC(), now.UTC()
	s.Generation = max(s.Generation+1, now.UnixMilli())
	if err := k.vault.Keep(plain, func(sealed []byte) error {
		s.Access = sealed
		return k.put(ctx, journal.CommandRenew, []store.Seat{s}, nil)
	}); err != nil {
		return credential.Secret{}, err
	}
	k.mu.Lock()
	delete(k.refused, [2]string{host, accountName})
	k.mu.Unlock()
	return secret, nil
}
