// Package client calls the service's operator interface.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/saved"
)

// Client calls one service as one operator.
type Client struct {
	Service string // URL
	Token   string
	HTTP    *http.Client
}

// New returns a client for the service at a URL.
func New(service, token string) *Client {
	return &Client{Service: strings.TrimRight(service, "/"), Token: token, HTTP: &http.Client{}}
}

// Error is the service's answer that it will not do something.
type Error struct {
	Status  int
	Detail  string
	Details []string // one for each thing that is wrong
}

func (e *Error) Error() string { return e.Detail }

// Unreachable is the error for a service that does not answer.
type Unreachable struct {
	Service string
	Err     error
}

func (e *Unreachable) Error() string {
	why := e.Err.Error()
	var dns *net.DNSError
	switch disbelieved := e.Disbelieved(); {
	case disbelieved != "":
		return fmt.Sprintf("the service at %s cannot be believed: %s", e.Service, disbelieved)
	case errors.Is(e.Err, syscall.ECONNREFUSED):
		why = "nothing listens there"
	case errors.Is(e.Err, context.DeadlineExceeded):
		why = "no answer in time"
	case errors.As(e.Err, &dns):
		why = "the name " + dns.Name + " is not known"
	}
	return fmt.Sprintf("no service answers at %s: %s", e.Service, why)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// Disbelieved says why the certificate of a service that answers is not believed; empty where that is not the reason.
func (e *Unreachable) Disbelieved() string {
	const moment = "2006-01-02 15:04 UTC"
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var other *tls.CertificateVerificationError
	switch {
	case errors.As(e.Err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil && time.Now().Before(invalid.Cert.NotBefore):
		return "its certificate is good from " + invalid.Cert.NotBefore.UTC().Format(moment) + " on (is the clock of this machine right?)"
	case errors.As(e.Err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil:
		return "its certificate has ended on " + invalid.Cert.NotAfter.UTC().Format(moment) + "; a new one in its file is enough"
	case errors.As(e.Err, &unknown):
		return "its certificate is signed by nobody whom this machine believes; SSL_CERT_FILE names an authority of your own"
	case errors.As(e.Err, &name):
		return "its certificate is that of another name: " + name.Error()
	case errors.As(e.Err, &other):
		return "its certificate is not good: " + other.Err.Error()
	}
	return ""
}

// answerTime bounds a call; previews of large fleets take the longest.
const answerTime = 2 * time.Minute

// mostAnswer bounds an answer, in bytes.
const mostAnswer = 256 << 20

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.Service+path, body)
	if err != nil {
		return fmt.Errorf("the service's address %q cannot be used: %w", c.Service, err)
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := c.HTTP.Do(req)
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return &Unreachable{c.Service, err}
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer+1))
	if err != nil {
		return &Unreachable{c.Service, err}
	}
	if len(b) > mostAnswer {
		return fmt.Errorf("%s answered with more than %d bytes, which no Patient Lantern service does", c.Service, mostAnswer)
	}
	if resp.StatusCode >= 300 {
		var p struct {
			Detail string `json:"detail"`
			Errors []struct {
				Message  string `json:"message"`
				Location string `json:"location"`
			} `json:"errors"`
		}
		e := &Error{Status: resp.StatusCode}
		if json.Unmarshal(b, &p) == nil {
			e.Detail = p.Detail
			for _, d := range p.Errors {
				if !strings.Contains(p.Detail, d.Message) {
					e.Details = append(e.Details, d.Message)
				}
			}
		}
		if e.Detail == "" {
			e.Detail = fmt.Sprintf("%s answered %s; is it a Patient Lantern service?", c.Service, resp.Status)
			if bytes.Contains(b, []byte("HTTP request to an HTTPS server")) {
				e.Detail = "the service speaks TLS: give its address as https" + strings.TrimPrefix(c.Service, "http")
			}
		}
		return e
	}
	switch out := out.(type) {
	case nil:
		return nil
	case *[]byte: // as it came
		*out = b
		return nil
	}
	if err := json.Unmarshal(b, out); err != nil {
		return fmt.Errorf("%s did not answer as a Patient Lantern service does: %w", c.Service, err)
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return out, c.call(ctx, http.MethodGet, path, nil, &out)
}

func send[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	return out, c.call(ctx, method, path, in, &out)
}

// List says which rows of a list are wanted.
type List struct {
	Query   string
	Filter  map[string][]string
	To      []string // hosts, ranges, groups
	Where   string   // a condition
	Sort    string
	Page    int
	PerPage int
}

func (l List) values() url.Values {
	v := url.Values{}
	if l.Query != "" {
		v.Set("q", l.Query)
	}
	for k, list := range l.Filter {
		if len(list) > 0 && list[0] != "" {
			v.Set(k, strings.Join(list, ","))
		}
	}
	for _, t := range l.To {
		v.Add("to", t)
	}
	if l.Where != "" {
		v.Set("where", l.Where)
	}
	if l.Sort != "" {
		v.Set("sort", l.Sort)
	}
	if l.Page > 0 {
		v.Set("page", strconv.Itoa(l.Page))
	}
	if l.PerPage > 0 {
		v.Set("per_page", strconv.Itoa(l.PerPage))
	}
	return v
}

// Session tells who the client is signed in as.
func (c *Client) Session(ctx context.Context) (api.Session, error) {
	return get[api.Session](ctx, c, "/api/session", nil)
}

// Hosts returns a page of the fleet.
func (c *Client) Hosts(ctx context.Context, l List) (api.HostPage, error) {
	return get[api.HostPage](ctx, c, "/api/hosts", l.values())
}

// HostNames returns the names of all hosts that a filter lets through.
func (c *Client) HostNames(ctx context.Context, l List) (api.HostNames, error) {
	return get[api.HostNames](ctx, c, "/api/host-names", l.values())
}

// Host returns all that is known of one host.
func (c *Client) Host(ctx context.Context, name string) (api.HostDetail, error) {
	return get[api.HostDetail](ctx, c, "/api/hosts/"+url.PathEscape(name), nil)
}

// Explain says why a host has what a revision gives it; 0 for the newest.
func (c *Client) Explain(ctx context.Context, name string, revision int64) (reason.Explanation, error) {
	return get[reason.Explanation](
		ctx,
		c,
		"/api/hosts/"+url.PathEscape(name)+"/explanation",
		url.Values{"revision": {strconv.FormatInt(revision, 10)}},
	)
}

// Survey returns a host's last survey with the texts of its source files.
func (c *Client) Survey(ctx context.Context, name string) (saved.Snapshot, error) {
	return get[saved.Snapshot](ctx, c, "/api/hosts/"+url.PathEscape(name)+"/survey", nil)
}

// RevisionFiles returns the folder that was published as a revision.
func (c *Client) RevisionFiles(ctx context.Context, number int64) (api.Publication, error) {
	return get[api.Publication](ctx, c, "/api/revisions/"+strconv.FormatInt(number, 10), nil)
}

// Retire forgets a host.
func (c *Client) Retire(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/hosts/"+url.PathEscape(name), nil, nil)
}

// Label replaces the labels of a host.
func (c *Client) Label(ctx context.Context, name string, labels map[string]string) (api.Host, error) {
	return send[api.Host](ctx, c, http.MethodPut, "/api/hosts/"+url.PathEscape(name)+"/labels", api.Labels{Labels: labels})
}

// Heal puts right what has drifted on a host.
func (c *Client) Heal(ctx context.Context, name string) (api.Rollout, error) {
	return c.HealAs(ctx, name, api.HealOrder{})
}

// HealAs puts right what has drifted on a host, as the order says.
func (c *Client) HealAs(ctx context.Context, name string, o api.HealOrder) (api.Rollout, error) {
	return send[api.Rollout](ctx, c, http.MethodPost, "/api/hosts/"+url.PathEscape(name)+"/heal", o)
}

// History returns what happened to a host, the newest first; before is 0 or the next of a page.
func (c *Client) History(ctx context.Context, name string, before int64, perPage int) (api.HistoryPage, error) {
	v := url.Values{"per_page": {strconv.Itoa(perPage)}}
	if before > 0 {
		v.Set("before", strconv.FormatInt(before, 10))
	}
	return get[api.HistoryPage](ctx, c, "/api/hosts/"+url.PathEscape(name)+"/history", v)
}

// Accept accepts a host as it stands: what the policy says nothing of is right from now on.
func (c *Client) Accept(ctx context.Context, name string, o api.AcceptOrder) (api.Accepted, error) {
	return send[api.Accepted](ctx, c, http.MethodPost, "/api/hosts/"+url.PathEscape(name)+"/accept", o)
}

// Invite makes a one-time token with which a host joins.
func (c *Client) Invite(ctx context.Context, o api.InviteOrder) (api.Invite, error) {
	return send[api.Invite](ctx, c, http.MethodPost, "/api/invites", o)
}

// GroupedDrift returns a page of findings, those that are the same on many hosts once.
func (c *Client) GroupedDrift(ctx context.Context, l List) (api.FindingGroupPage, error) {
	return get[api.FindingGroupPage](ctx, c, "/api/drift/groups", l.values())
}

// Waivers returns a page of waivers, those that end soonest first.
func (c *Client) Waivers(ctx context.Context, over bool, l List) (api.WaiverPage, error) {
	v := l.values()
	if over {
		v.Set("over", "true")
	}
	return get[api.WaiverPage](ctx, c, "/api/waivers", v)
}

// Waive accepts a finding until a date.
func (c *Client) Waive(ctx context.Context, o api.WaiverOrder) (api.Waiver, error) {
	return send[api.Waiver](ctx, c, http.MethodPost, "/api/waivers", o)
}

// EndWaiver takes a waiver away.
func (c *Client) EndWaiver(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/waivers/"+strconv.FormatInt(id, 10), nil, nil)
}

// Cohorts returns a page of configurations, the commonest first.
func (c *Client) Cohorts(ctx context.Context, system string, diff bool, l List) (api.CohortPage, error) {
	v := l.values()
	if system != "" {
		v.Set("q", system)
	}
	if diff {
		v.Set("diff", "true")
	}
	return get[api.CohortPage](ctx, c, "/api/cohorts", v)
}

// Drift returns a page of findings.
func (c *Client) Drift(ctx context.Context, l List) (api.FindingPage, error) {
	return get[api.FindingPage](ctx, c, "/api/drift", l.values())
}

// Check checks a policy folder against the fleet.
func (c *Client) Check(ctx context.Context, p api.Publication) (api.CheckResult, error) {
	return send[api.CheckResult](ctx, c, http.MethodPost, "/api/policy/check", p)
}

// Publish publishes a policy folder.
func (c *Client) Publish(ctx context.Context, p api.Publication) (api.Revision, error) {
	return send[api.Revision](ctx, c, http.MethodPost, "/api/revisions", p)
}

// Revisions returns every revision, the newest first.
func (c *Client) Revisions(ctx context.Context, l List) (api.RevisionList, error) {
	return get[api.RevisionList](ctx, c, "/api/revisions", l.values())
}

// PreviewFolder shows what a policy folder would change that is not published.
func (c *Client) PreviewFolder(ctx context.Context, in api.Publication) (api.Preview, error) {
	return send[api.Preview](ctx, c, http.MethodPost, "/api/policy/preview", in)
}

// Preview tells what carrying a revision would change; 0 stands for the newest.
func (c *Client) Preview(ctx context.Context, revision int64) (api.Preview, error) {
	return get[api.Preview](ctx, c, "/api/preview", url.Values{"revision": {strconv.FormatInt(revision, 10)}})
}

// BeginRollout carries a revision to the hosts.
func (c *Client) BeginRollout(ctx context.Context, o api.RolloutOrder) (api.Rollout, error) {
	return send[api.Rollout](ctx, c, http.MethodPost, "/api/rollouts", o)
}

// Levers of a rollout.
const (
	LeverHold    = "hold"     // no more hosts begin
	LeverProceed = "proceed"  // it goes on
	LeverConsent = "consent"  // somebody agrees to the next wave
	LeverSkip    = "skip"     // a host is left out
	LeverBackOut = "back-out" // hosts have again what they had; the answer is the rollout that does it
)

// PullLever changes where a rollout stands.
func (c *Client) PullLever(ctx context.Context, id int64, lever string, o api.LeverOrder) (api.Rollout, error) {
	return send[api.Rollout](ctx, c, http.MethodPost, "/api/rollouts/"+strconv.FormatInt(id, 10)+"/"+lever, o)
}

// Audit tells what people did, and what became of rollouts, the newest first.
func (c *Client) Audit(ctx context.Context, l List) (api.AuditPage, error) {
	return get[api.AuditPage](ctx, c, "/api/audit", l.values())
}

// AuditChain checks that nothing of that was changed or taken out. noted is a head that
// somebody noted before; or empty.
func (c *Client) AuditChain(ctx context.Context, noted string) (api.AuditChain, error) {
	v := url.Values{}
	if noted != "" {
		v.Set("noted", noted)
	}
	return get[api.AuditChain](ctx, c, "/api/audit/chain", v)
}

// Past tells what a host had at a moment.
func (c *Client) Past(ctx context.Context, name string, at time.Time) (api.PastHost, error) {
	return get[api.PastHost](ctx, c, "/api/hosts/"+url.PathEscape(name)+"/past", url.Values{"at": {at.Format(time.RFC3339Nano)}})
}

// Export tells which files a host would have.
func (c *Client) Export(ctx context.Context, o api.ExportOrder) (api.Export, error) {
	return send[api.Export](ctx, c, http.MethodPost, "/api/export", o)
}

// Webhooks lists who is told of what happens.
func (c *Client) Webhooks(ctx context.Context) (api.WebhookList, error) {
	return get[api.WebhookList](ctx, c, "/api/webhooks", nil)
}

// AddWebhook has an address told of what happens. The answer has the secret, once.
func (c *Client) AddWebhook(ctx context.Context, o api.WebhookOrder) (api.Webhook, error) {
	return send[api.Webhook](ctx, c, http.MethodPost, "/api/webhooks", o)
}

// RemoveWebhook has an address told no more.
func (c *Client) RemoveWebhook(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/webhooks/"+strconv.FormatInt(id, 10), nil, nil)
}

// TryWebhook calls a webhook once.
func (c *Client) TryWebhook(ctx context.Context, id int64) (api.WebhookTry, error) {
	return send[api.WebhookTry](ctx, c, http.MethodPost, "/api/webhooks/"+strconv.FormatInt(id, 10)+"/try", nil)
}

// HealMany puts right what has drifted on hosts, wave by wave.
func (c *Client) HealMany(ctx context.Context, o api.HealManyOrder) (api.Rollout, error) {
	return send[api.Rollout](ctx, c, http.MethodPost, "/api/heal", o)
}

// Freezes lists when nothing moves, the newest first.
func (c *Client) Freezes(ctx context.Context) (api.FreezeList, error) {
	return get[api.FreezeList](ctx, c, "/api/freezes", nil)
}

// Freeze lets nothing move in the fleet, or in a group.
func (c *Client) Freeze(ctx context.Context, o api.FreezeOrder) (api.Freeze, error) {
	return send[api.Freeze](ctx, c, http.MethodPost, "/api/freezes", o)
}

// Thaw ends a freeze.
func (c *Client) Thaw(ctx context.Context, id int64) (api.Freeze, error) {
	return send[api.Freeze](ctx, c, http.MethodDelete, "/api/freezes/"+strconv.FormatInt(id, 10), nil)
}

// Rollout tells how far a rollout is, with a page of its hosts: those first which failed.
func (c *Client) Rollout(ctx context.Context, id int64, l List) (api.Rollout, error) {
	return get[api.Rollout](ctx, c, "/api/rollouts/"+strconv.FormatInt(id, 10), l.values())
}

// Rollouts returns a page of rollouts, the newest first.
func (c *Client) Rollouts(ctx context.Context, l List) (api.RolloutPage, error) {
	return get[api.RolloutPage](ctx, c, "/api/rollouts", l.values())
}

// StopRollout stops a rollout on the hosts that have not begun it.
func (c *Client) StopRollout(ctx context.Context, id int64) (api.Rollout, error) {
	return send[api.Rollout](ctx, c, http.MethodPost, "/api/rollouts/"+strconv.FormatInt(id, 10)+"/stop", nil)
}

// Operators lists who may sign in.
func (c *Client) Operators(ctx context.Context) (api.OperatorList, error) {
	return get[api.OperatorList](ctx, c, "/api/operators", nil)
}

// AddOperator adds an operator, or gives one a new token.
func (c *Client) AddOperator(ctx context.Context, o api.OperatorOrder) (api.Operator, error) {
	return send[api.Operator](ctx, c, http.MethodPost, "/api/operators", o)
}

// RemoveOperator takes an operator away.
func (c *Client) RemoveOperator(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/operators/"+url.PathEscape(name), nil, nil)
}
