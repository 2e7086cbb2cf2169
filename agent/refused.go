package agent

import (
	"fmt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
)

// addresses are what messages say of where something was fetched from: their digits are
// ports, dates and versions, and say nothing of an answer.
var addresses = pattern.Lazy(`(?i)\[IP: [^\]]*\]|[a-z][a-z0-9+.-]*:/\S*|'[^']*'|"[^"]*"|(?:^|\s)/\S*|\b\S+:\d+\b`)

// doorShut is how apt, dnf, zypper, pacman, flatpak and we ourselves say that a server
// wants a login (HTTP 401) or does not take the one that it got (403).
var doorShut = pattern.Lazy(
	`(?i)^\s*40[13]\b|\b(?:status(?:\s+code)?|code|error|answered|returned|http(?:/\d(?:\.\d)?)?):?\s+40[13]\b|` +
		`\b40[13]\s+(?:unauthori[sz]ed|forbidden|authorization required)|` +
		`^(?:unauthori[sz]ed|forbidden)$|\b(?:authentication required|login failed|permission to access\s+denied)\b`,
)

// refusedLogin reports whether a message says that a server lets nobody in without
// another login.
func refusedLogin(message string) bool {
	return doorShut().MatchString(addresses().ReplaceAllString(message, " "))
}

// explainRefusal says in words why a vendor asks for a login.
func explainRefusal(o api.SourceOutcome, sheet *source.Sheet) string {
	if !refusedLogin(o.Message) {
		return o.Message
	}
	for _, s := range sheet.Sources {
		if s.File != o.File || !s.Enabled {
			continue
		}
		if s.Contract != "" {
			return fmt.Sprintf(
				"the vendor does not let this host in (%s): %s needs a seat in the contract %s, and the access of this host opens it no more; "+
					"take a seat (lantern seat take), or follow the open choice",
				o.Message,
				s.Repository,
				s.Contract,
			)
		}
		return fmt.Sprintf(
			"the vendor does not let this host in (%s): %s is licensed, and the policy names no contract for it; make it a choice of a channel",
			o.Message,
			s.Repository,
		)
	}
	return o.Message
}
