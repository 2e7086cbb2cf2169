package drift

import (
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
)

// closes is what closes the findings that healing does not close, by class.
var closes = map[string]string{
	NoSeat:          "take a seat (lantern seat take HOST), or let its group follow the open choice",
	SeatEnds:        "renew the contract, or let its group follow another choice",
	AccessExpired:   "the service renews it as soon as the vendor's desk gives a new one: lantern account list says whether it answers",
	DecisionMissing: "say in the policy why, and until when (decision)",
	DecisionDue:     "look at the decision again, and say in the policy until when it holds",
	RefreshFails:    "what keeps it away stands in the finding: lantern repository list tells whether others have it too",
	KeyEnded:        "put the vendor's newer key into the policy: lantern key show FINGERPRINT tells who believes this one",
	SystemChanged:   "where the upgrade was meant, accept the host: lantern host accept HOST --because WHY",
	MediaGone:       "put the media where the host looks for it",
}

// Heals reports whether healing closes findings of a class, wherever it reaches them.
func Heals(class string) bool { return closes[class] == "" }

// outOfReach reports whether healing writes no such file: what packages bring, and dpkg's own database, in which holds
// stand.
func outOfReach(file string) bool {
	return strings.HasPrefix(file, family.System) || file == deb.Status
}

// reach says of findings whether healing reaches what they are about. What becomes of sources that are not in the policy
// says the policy.
func (c *comparer) reach() {
	for i := range c.out {
		f := &c.out[i]
		left := f.Beside && f.Severity == Note && closes[f.Class] == "" // as what became stricter
		if f.Class != UnlistedSource && (outOfReach(f.File) || left) {
			f.Stays = true
		}
	}
}

// ClosedBy says how a finding is closed that healing does not close; empty where healing may.
func (f *Finding) ClosedBy() string {
	const accept = "accept the host as it is: lantern host accept HOST --because WHY"
	switch {
	case !f.Stays:
		return closes[f.Class]
	case f.Class == UnlistedSource: // which the policy has reported alone
		return "take it into the policy (lantern policy adopt HOST FILE FOLDER), take it out by hand, or let the policy switch such " +
			"sources off (unlisted: switch-off)"
	case f.Beside && f.Severity == Note:
		return accept
	case f.Field == FolderField || f.Field == FileField:
		return "give it back to root on the host: chown root, chmod go-w"
	case f.Class == KeyWithdrawn:
		return "take the key out of that file by hand, or switch off what goes by it"
	case f.Class == NotRead && !f.Beside: // it is what the policy wants
		return "see on the host what stands there, and make it less, or readable"
	case f.Class == NotRead:
		return "see on the host what stands there, and make it less, or readable; or " + accept
	case f.Class == KeyAdded:
		return "withdraw it from the whole fleet: lantern key withdraw " + f.Have + " --because WHY; or " + accept
	case f.File == deb.Foreign:
		return "say it to dpkg on the host (dpkg --add-architecture, --remove-architecture), or " + accept
	}
	return "put it right on the host, or " + accept
}
