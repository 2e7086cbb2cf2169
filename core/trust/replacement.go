package trust

import "fmt"

// replacement says where the replacement of a key by another stands, and whether the old one may go.
func (f *Fleet) replacement(x, by *FleetKey, ready int) (says string, may bool) {
	switch {
	case x.Hosts == 0 && by.Hosts == 0:
		return "", false
	case x.Hosts == 0:
		says = fmt.Sprintf("no host that is known believes this one any more, and %s believe %s", hosts(by.Hosts), x.SucceededBy)
		if n := f.signs[x.Fingerprint]; n > 0 {
			return fmt.Sprintf("%s; the vendor still signs with it (seen at %s)", says, places(n)), false
		}
		return says + ": it can go", true
	case ready == x.Hosts:
		says, may = f.vendorSigns(x.Fingerprint, by.Fingerprint)
		return fmt.Sprintf("%s is on every host that believes this one; %s", x.SucceededBy, says), may
	case ready == 0:
		return fmt.Sprintf("%s is declared, and on none of %s yet: carry the policy out", x.SucceededBy, hosts(x.Hosts)), false
	}
	return fmt.Sprintf("%s is on %d of %s that believe this one", x.SucceededBy, ready, hosts(x.Hosts)), false
}

// vendorSigns says which of two keys the vendor signs with, the old one or the new, and whether the old one may go.
// It stays as long as there are places of which that was not seen.
func (f *Fleet) vendorSigns(old, next string) (says string, may bool) {
	was, is, unseen := f.signs[old], f.signs[next], f.unseen[old]
	switch {
	case was == 0 && is == 0:
		return "which of them the vendor signs with was not seen", false
	case was == 0 && unseen > 0:
		return fmt.Sprintf("the vendor signs with it (seen at %s), and with which of them at %s more was not seen",
			places(is), places(unseen)), false
	case was == 0:
		return fmt.Sprintf("the vendor signs with it (seen at %s): this one can go", places(is)), true
	case is == 0:
		return fmt.Sprintf("the vendor still signs with this one (seen at %s)", places(was)), false
	}
	return fmt.Sprintf("the vendor signs %s with it, and still %s with this one", places(is), places(was)), false
}

func places(n int) string {
	if n == 1 {
		return "1 place"
	}
	return fmt.Sprintf("%d places", n)
}

func hosts(n int) string {
	if n == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", n)
}
