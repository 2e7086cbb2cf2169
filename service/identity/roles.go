package identity

import (
	"fmt"
	"slices"

	"patientlantern.example/lantern/store"
)

// least is the role that each operation of the interface wants. What does not stand here
// is for nobody.
var least = map[string]string{
	"show-session": store.RoleReader, "sign-out": store.RoleReader,
	"list-hosts": store.RoleReader, "list-host-names": store.RoleReader, "show-host": store.RoleReader, "explain-host": store.RoleReader,
	"show-history": store.RoleReader, "show-survey": store.RoleReader, "show-past": store.RoleReader, "compare-host": store.RoleReader,
	"events":      store.RoleReader,
	"retire-host": store.RoleOperator, "label-host": store.RoleOperator, "heal-host": store.RoleOperator, "accept-host": store.RoleOperator,
	"invite-host": store.RoleOperator, "label-hosts": store.RoleOperator,
	"list-drift": store.RoleReader, "group-drift": store.RoleReader,
	"list-waivers": store.RoleReader, "add-waiver": store.RoleOperator, "end-waiver": store.RoleOperator,
	"list-cohorts": store.RoleReader, "list-groups": store.RoleReader,
	"show-field": store.RoleReader, "list-keys": store.RoleReader, "show-key": store.RoleReader,
	"list-repositories": store.RoleReader, "show-repository": store.RoleReader, "probe-repositories": store.RoleOperator,
	"whence":       store.RoleReader,
	"check-policy": store.RoleReader, "preview-policy": store.RoleReader, "publish-policy": store.RoleOperator,
	"list-revisions": store.RoleReader, "show-revision": store.RoleReader, "preview": store.RoleReader,
	"begin-rollout": store.RoleOperator,
	"list-rollouts": store.RoleReader,
	"show-rollout":  store.RoleReader,
	"stop-rollout":  store.RoleOperator,
	"heal-hosts":    store.RoleOperator,
	"hold-rollout":  store.RoleOperator, "proceed-rollout": store.RoleOperator, "consent-rollout": store.RoleOperator,
	"back-out-rollout": store.RoleOperator, "skip-host": store.RoleOperator,
	"audit": store.RoleReader, "audit-chain": store.RoleReader,
	"export":        store.RoleReader,
	"list-webhooks": store.RoleOperator, "add-webhook": store.RoleOperator, "remove-webhook": store.RoleOperator,
	"try-webhook":  store.RoleOperator,
	"list-freezes": store.RoleReader, "freeze": store.RoleOperator, "thaw": store.RoleOperator,
	"list-accounts": store.RoleReader, "add-account": store.RoleOperator, "remove-account": store.RoleOperator,
	"list-contracts": store.RoleReader, "list-seats": store.RoleReader, "take-seat": store.RoleOperator, "release-seat": store.RoleOperator,
	"list-channels": store.RoleReader, "outlook": store.RoleReader, "rotate-secrets": store.RoleOperator,
	"list-proposals": store.RoleReader, "show-proposal": store.RoleReader, "add-proposal": store.RoleOperator,
	"agree-proposal": store.RoleOperator, "publish-proposal": store.RoleOperator, "withdraw-proposal": store.RoleOperator,
	"list-shelves": store.RoleReader, "add-shelf": store.RoleOperator, "remove-shelf": store.RoleOperator,
	"list-dates": store.RoleReader, "list-days": store.RoleReader, "list-settings": store.RoleReader,
	"adopt-source": store.RoleReader, "retire-key": store.RoleReader, "calendar": store.RoleReader,
	"list-operators": store.RoleOperator, "add-operator": store.RoleOperator, "remove-operator": store.RoleOperator,
}

// Commands are the operations that change something.
func Commands() (out []string) {
	for op, role := range least {
		if role == store.RoleOperator {
			out = append(out, op)
		}
	}
	slices.Sort(out)
	return out
}

// may says whether an operator may have an operation, and if not, why.
func may(o store.Operator, operation string) error {
	switch least[operation] {
	case store.RoleReader:
		if o.Role == store.RoleReader || o.Role == store.RoleOperator {
			return nil
		}
		return fmt.Errorf("only operators and readers may ask for %q", operation)
	case store.RoleOperator:
		if o.Role == store.RoleOperator {
			return nil
		}
		return fmt.Errorf("%s may look and not change; ask an operator", o.Name)
	}
	return fmt.Errorf("nobody may ask for %q", operation)
}
