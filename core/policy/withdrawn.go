package policy

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// withdrawal reads that a key is believed no more: one of the policy's, or any by its fingerprint.
func (l *loader) withdrawal(f field) {
	if fingerprint, err := keyring.ParseFingerprint(f.key); err == nil {
		if f.key = fingerprint; l.policy.Withdrawn[f.key] != nil {
			l.fail("name-twice", f.at, fmt.Sprintf("the key %s is withdrawn twice", f.key), "keep one of them", l.policy.Withdrawn[f.key].Pos)
			return
		}
	} else if !isNew(l, f, "withdrawn key", l.policy.Withdrawn, func(x *Withdrawal) diag.Pos { return x.Pos }) {
		return
	}
	w := &Withdrawal{Key: f.key, Pos: f.at}
	l.policy.Withdrawn[f.key] = w
	for _, x := range l.mapping(f.node, fmt.Sprintf("the withdrawn key %q", f.key), keysOf[withdrawnForm]()...) {
		t, _ := l.text(x, x.key)
		if x.key == "because" {
			w.Because = strings.TrimSpace(t.Value)
		} else {
			w.Author = strings.TrimSpace(t.Value)
		}
	}
	if w.Because == "" {
		l.fail("no-reason", f.at, fmt.Sprintf("the key %q is withdrawn without a reason", f.key), "say why, with `because:`")
	}
}

// believed are the keys of a repository that are not withdrawn. One that is left without any is
// off: a package manager that is told of no key might believe every key that it knows.
func (l *loader) believed(r *Repository) []Text {
	all := l.trusted(r.Keys)
	left := slices.DeleteFunc(slices.Clone(all), func(t Text) bool { return l.policy.WithdrawalOf(t.Value) != nil })
	if len(all) == 0 || len(left) > 0 {
		return left
	}
	w := l.policy.WithdrawalOf(all[0].Value)
	if r.InPlace { // its entries name their key themselves, or believe what the distribution has brought
		l.report("key-withdrawn", diag.Warning, w.Pos,
			fmt.Sprintf("every key of the repository %q is withdrawn, and it stays on: hosts believe what their distribution has brought", r.Name),
			"take the distribution's key away with the package that brings it, or switch the entries off with enabled: false", r.Pos)
		return left
	}
	r.Keyless = true
	l.report("key-withdrawn", diag.Warning, w.Pos,
		fmt.Sprintf("the repository %q is off: every key that it is believed by is withdrawn (%s)", r.Name, w.Because),
		"when the vendor has a new key, add it with succeeds:", r.Pos)
	return left
}

// BelievesAgain are the keys that an earlier policy withdrew and that this one would believe
// again without a word: it does not withdraw them, and a repository is believed by them.
func (p *Policy) BelievesAgain(before *Policy) (out []string) {
	for _, name := range sortedNames(before.Withdrawn) {
		old := before.fingerprintOf(name)
		for _, k := range p.Keys {
			if k.Fingerprint != old || p.WithdrawalOf(k.Name) != nil {
				continue
			}
			for _, r := range p.Repositories {
				if slices.ContainsFunc(r.Trusts, func(t Text) bool { return t.Value == k.Name }) {
					out = append(out, k.Name)
					break
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// WithdrawalOf is why a key of the policy is believed no more, by its name or by its fingerprint;
// nil where it may be believed.
func (p *Policy) WithdrawalOf(key string) *Withdrawal {
	if w := p.Withdrawn[key]; w != nil {
		return w
	}
	k := p.Keys[key]
	if k == nil {
		return nil
	}
	for name, w := range p.Withdrawn {
		if p.fingerprintOf(name) == k.Fingerprint {
			return w
		}
	}
	return nil
}

// fingerprintOf is the fingerprint of a key that a policy withdraws; empty where it is neither a
// key of the policy nor a fingerprint.
func (p *Policy) fingerprintOf(withdrawn string) string {
	if k := p.Keys[withdrawn]; k != nil {
		return k.Fingerprint
	}
	fpr, err := keyring.ParseFingerprint(withdrawn)
	if err != nil {
		return ""
	}
	return fpr
}

// NotBelieved lists the keys that no host may believe any more, by their names.
func (p *Policy) NotBelieved() (out []source.SheetWithdrawn) {
	for _, name := range sortedNames(p.Withdrawn) {
		x := source.SheetWithdrawn{Key: name, Fingerprint: p.fingerprintOf(name), Because: p.Withdrawn[name].Because}
		if x.Fingerprint == "" || slices.ContainsFunc(out, func(y source.SheetWithdrawn) bool { return y.Fingerprint == x.Fingerprint }) {
			continue
		}
		for _, r := range p.Repositories {
			x.Stays = x.Stays || r.InPlace && slices.ContainsFunc(r.Keys, func(t Text) bool {
				return p.Keys[t.Value] != nil && p.Keys[t.Value].Fingerprint == x.Fingerprint
			})
		}
		out = append(out, x)
	}
	return out
}
