package api

import (
	"fmt"
	"strings"
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/subscription"
)

// AccountOrder gives the service the organisation's account at a vendor's desk.
type AccountOrder struct {
	Name     string `json:"name" minLength:"1" maxLength:"63" pattern:"^[a-z0-9][a-z0-9-]*$" doc:"As the policy's contracts name it"`
	Title    string `json:"title,omitempty" maxLength:"200"`
	Desk     string `json:"desk" format:"uri" maxLength:"500" doc:"Address of the vendor's desk"`
	Login    string `json:"login" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"Kept encrypted and never shown again"`
}

// Rotated says what a rotation of the key for secrets has done.
type Rotated struct {
	Secrets int `json:"secrets" doc:"How many were encrypted anew"`
}

// Account is an account at a vendor's desk; never its login.
type Account struct {
	Name      string     `json:"name"`
	Title     string     `json:"title"`
	Desk      string     `json:"desk"`
	Contracts int        `json:"contracts" doc:"How many the desk last told of"`
	Seats     int        `json:"seats" doc:"Seats taken"`
	Answered  *time.Time `json:"answered" doc:"When the desk last answered"`
	Trouble   string     `json:"trouble" doc:"Why the desk does not answer; empty where it does"`
	Since     *time.Time `json:"since" doc:"Since when it does not"`
}

// AccountList is every account.
type AccountList struct {
	Accounts []Account `json:"items"`
	Total    int       `json:"total"`
}

// HeldContract is a contract with how it stands.
type HeldContract struct {
	subscription.Contract
	State string `json:"state" enum:"good,ending,ended,withdrawn,over,to-come" doc:"ending: within 90 days; over: more taken than it has"`
	Used  int    `json:"seats_used"`
	Free  int    `json:"seats_free" doc:"-1 where there is no end of them"`
	Over  int    `json:"seats_over" doc:"So many more are taken than there are"`
}

// ContractPage is one page of contracts.
type ContractPage struct {
	Contracts []HeldContract `json:"items"`
	Total     int            `json:"total"`
	Next      int            `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

// SeatOrder asks for a seat.
type SeatOrder struct {
	Host     string `json:"host" minLength:"1" maxLength:"253"`
	Account  string `json:"account,omitempty" doc:"Which account; may be left out where the host's sheet needs one only"`
	Contract string `json:"contract,omitempty" doc:"The number of a contract; the best is chosen where it is left out"`
}

// Seat is the place of one host in a contract.
type Seat struct {
	subscription.Seat
	Automatic bool       `json:"automatic" doc:"Taken by the policy, and given back by it"`
	Leaving   bool       `json:"leaving" doc:"It is to be given back, and the desk has not heard of it yet"`
	Needed    bool       `json:"needed" doc:"The host's sheet needs it"`
	Kind      string     `json:"kind" doc:"Of the access: basic or client-certificate; empty before the first"`
	Expires   *time.Time `json:"expires" doc:"When the access ends; it is renewed before"`
	Renewal   string     `json:"renewal" doc:"Why the access is not renewed; empty where it is"`
	State     string     `json:"state" doc:"How the host stands"`
}

// SeatPage is one page of seats.
type SeatPage struct {
	Seats []Seat `json:"items"`
	Total int    `json:"total"`
	Next  int    `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

// SeatsAhead says what seats carrying a revision needs.
type SeatsAhead struct {
	Taking []SeatTaking   `json:"taking" doc:"Seats that would be taken"`
	Short  []SeatShortage `json:"short" doc:"Groups that cannot have their seats"`
	ByHand []string       `json:"by_hand" doc:"Hosts that need a seat which somebody must take"`
}

// SeatTaking is a seat that a host would take.
type SeatTaking struct {
	Host     string `json:"host"`
	Account  string `json:"account"`
	Contract string `json:"contract"`
	Why      string `json:"why"`
}

// SeatShortage is a group that cannot have its seats.
type SeatShortage struct {
	Group   string   `json:"group"`
	Account string   `json:"account"`
	Needed  int      `json:"seats_needed" doc:"Seats that it does not have yet"`
	Short   int      `json:"seats_short" doc:"So many of them are missing"`
	Hosts   []string `json:"names" doc:"The hosts that would go without"`
	Why     string   `json:"why"`
}

// Channel is a channel of the policy with its choices.
type Channel struct {
	Name    string          `json:"name"`
	Title   string          `json:"title"`
	Choices []ChannelChoice `json:"choices"`
	At      diag.Pos        `json:"place"`
}

// ChannelChoice is one of the repositories of a channel.
type ChannelChoice struct {
	Name       string           `json:"name"`
	Repository string           `json:"repository"`
	Variant    string           `json:"variant" enum:",debug,source" doc:"Empty for the choice itself"`
	Licensed   bool             `json:"licensed"`
	Contract   string           `json:"contract" doc:"The policy's name for what it needs"`
	Opens      string           `json:"opened" doc:"The vendor's name for it"`
	Pinned     string           `json:"pinned" doc:"The version that it stays at; empty: rolling"`
	Support    string           `json:"support"`
	Contracts  []string         `json:"opened_by" doc:"Numbers of the contracts that open it now"`
	Groups     []string         `json:"groups" doc:"Groups that follow it"`
	Hosts      int              `json:"hosts" doc:"Hosts that follow it under the revision that was carried to them"`
	Decision   []ChannelDecided `json:"decisions" doc:"Decisions to follow it without a contract"`
	At         diag.Pos         `json:"place"`
}

// ChannelDecided is a recorded decision to run without a contract.
type ChannelDecided struct {
	Group   string   `json:"group"`
	Because string   `json:"because"`
	Author  string   `json:"author"`
	Review  string   `json:"review" doc:"The day on which it is looked at again"`
	Due     bool     `json:"due"`
	At      diag.Pos `json:"place"`
}

// ChannelPage is one page of channels.
type ChannelPage struct {
	Revision int64     `json:"revision" doc:"The revision that they stand in; 0 for none"`
	Channels []Channel `json:"items"`
	Total    int       `json:"total"`
	Next     int       `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Unknown  int       `json:"unknown" doc:"Hosts to which no revision was carried yet: none of them is counted"`
}

// Outlook is what the buyer of contracts wants to know.
type Outlook struct {
	Ending []subscription.Ending `json:"ending" doc:"Contracts that end within 90 days or are withdrawn, and the hosts that would fall out"`
	Twice  []subscription.Double `json:"twice" doc:"Hosts that several contracts cover"`
	Silent []SilentSeat          `json:"silent_seats" doc:"Seats of hosts that do not check in"`
	Idle   []SilentSeat          `json:"idle_seats" doc:"Seats of hosts whose sheet needs none"`
	Usage  []SeatUsage           `json:"usage" doc:"Seats used over the last year: one row each time that it changed"`

	Forecast []subscription.Forecast `json:"forecast" doc:"The year ahead, account by account"`
	Accounts int                     `json:"accounts" doc:"Accounts that the service has: without any, it knows of no contract"`
	Away     []string                `json:"away" doc:"Accounts whose desk does not answer: their contracts are as it told them last"`
	Unknown  int                     `json:"unknown" doc:"Hosts of which it is not known what they need: no revision was carried to them, or they cannot be read"`
}

// Doubts says what the outlook does not know, a sentence each.
func (o *Outlook) Doubts() (out []string) {
	if o.Forecast == nil { // of a service of before, which does not count them
		return []string{"The service is older than this program: what it does not know of contracts is not told."}
	}
	if o.Accounts == 0 {
		out = append(out, "The service has no account at a vendor's desk: which contracts there are is not known.")
	}
	if len(o.Away) > 0 {
		out = append(out, desksAway(o.Away))
	}
	if o.Unknown > 0 {
		hosts := "1 host needs"
		if o.Unknown > 1 {
			hosts = fmt.Sprintf("%d hosts need", o.Unknown)
		}
		out = append(out, "What "+hosts+" is not known: no revision was carried to them yet, or they cannot be read.")
	}
	return out
}

// desksAway says of which accounts the contracts are as they were told last.
func desksAway(accounts []string) string {
	return "The desks of " + strings.Join(accounts, ", ") + " do not answer: contracts of theirs are as they were told last."
}

// SilentSeat is a seat that may be paid for nothing.
type SilentSeat struct {
	Host     string     `json:"host"`
	Account  string     `json:"account"`
	Contract string     `json:"contract"`
	LastSeen *time.Time `json:"last_seen"`
}

// SeatUsage is how many seats of a contract were taken from a time on.
type SeatUsage struct {
	Account  string    `json:"account"`
	Contract string    `json:"contract"`
	At       time.Time `json:"at"`
	Used     int       `json:"seats_used"`
	Seats    int       `json:"seats" doc:"0 where the organisation is covered"`
}

// AccessWant is the access that an agent asks for.
type AccessWant struct {
	Account string `json:"account"`
	Kind    string `json:"kind" enum:"basic,client-certificate,token-url"`
}

// AccessOrder asks for the access of a host. It is signed by the host: a JWS
// (RFC 7515, EdDSA) of an AccessClaim.
type AccessOrder struct {
	Claim string `json:"claim"`
}

// AccessClaim is what a host says when it asks for access.
type AccessClaim struct {
	Host   string       `json:"host"`
	Key    string       `json:"key" doc:"A public P-256 key (JWK) that the answer is encrypted to"`
	Issued time.Time    `json:"issued"`
	Wants  []AccessWant `json:"wants"`
}

// AccessAnswer brings the access of a host, which nobody else can read.
type AccessAnswer struct {
	Sealed string `json:"sealed" doc:"A JWE (RFC 7516, ECDH-ES+A256KW, A256GCM) of a JWS, signed by the service, of an AccessGrant"`
}
