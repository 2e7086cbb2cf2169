package cli

import (
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/web"
)

// answer is what a command prints as JSON.
type answer struct {
	one  reflect.Type
	list reflect.Type // of a command that takes many hosts, where more than one may be meant; else nil
}

func of[T any]() answer { return answer{one: reflect.TypeFor[T]()} }

func each[T any]() answer { return answer{reflect.TypeFor[T](), reflect.TypeFor[listed[T]]()} }

// answers are what commands print as JSON.
var answers = map[string]answer{
	"":          of[state](),
	"host list": of[api.HostPage](), "host show": each[api.HostDetail](), "host invite": each[api.Invite](), "host label": of[api.Labelled](),
	"host accept": each[api.Accepted](), "host history": each[api.HistoryPage](),
	"host compare": each[api.BetweenPage](), "host retire": of[did](), "host export": each[api.Export](),
	"day list":     of[api.DayPage](),
	"setting list": of[api.SettingPage](),
	"group list":   of[api.GroupPage](), "cohort list": of[api.CohortPage](),
	"key list": of[api.KeyPage](), "key show": of[api.KeyDetail](), "key withdraw": of[withdrawing](), "key retire": of[keyPatch](),
	"repository list": of[api.RepositoryPage](), "repository show": of[listed[api.Repository]](),
	"repository probe": of[api.RepositoryPage](), "whence": of[api.Whence](),
	"waiver list": of[api.WaiverPage](), "waiver add": of[listed[api.Waiver]](), "waiver end": of[did](),
	"survey save": of[savedSurveys](), "drift": of[api.FindingGroupPage](), "heal": of[api.Rollout](),
	"explain": each[reason.Explanation](), "read": of[source.Survey](),
	"policy new": of[filesWritten](), "policy learn": of[learntPolicy](), "policy adopt": of[patchText](),
	"policy check": of[api.CheckResult](), "policy test": of[listed[reason.Expected]](), "policy preview": of[api.Preview](),
	"policy publish": of[api.Revision](), "policy restore": of[api.Revision](), "policy fetch": of[filesWritten](),
	"policy compare": of[comparison](), "policy format": of[listed[formatResult]](), "policy codes": of[listed[codeRow]](),
	"revision list": of[api.RevisionList](),
	"rollout list":  of[api.RolloutPage](), "rollout show": of[api.Rollout](), "rollout begin": of[api.Rollout](),
	"rollout plan": of[api.Rollout](), "rollout hold": of[api.Rollout](), "rollout proceed": of[api.Rollout](),
	"rollout consent": of[api.Rollout](), "rollout skip": each[api.Rollout](), "rollout back-out": of[api.Rollout](),
	"rollout stop": of[api.Rollout](),
	"date list":    of[api.DatePage](),
	"freeze list":  of[api.FreezeList](), "freeze add": of[api.Freeze](), "freeze end": of[api.Freeze](),
	"channel list": of[api.ChannelPage](), "contract list": of[api.ContractPage](), "contract outlook": of[api.Outlook](),
	"seat list": of[api.SeatPage](), "seat take": each[api.Seat](), "seat release": each[api.Seat](),
	"account list": of[api.AccountList](), "account add": of[api.Account](), "account remove": of[did](),
	"audit list": of[api.AuditPage](), "audit verify": of[api.AuditChain](),
	"operator list": of[api.OperatorList](), "operator add": of[api.Operator](), "operator remove": of[did](),
	"proposal list": of[api.ProposalPage](), "proposal add": of[api.Proposal](), "proposal show": of[proposed](),
	"proposal agree":   of[api.Proposal](),
	"proposal publish": of[api.Revision](), "proposal withdraw": of[did](), "proposal fetch": of[filesWritten](),
	"shelf list": of[api.ShelfList](), "shelf add": of[api.Shelf](), "shelf remove": of[did](),
	"webhook list": of[api.WebhookList](), "webhook add": of[api.Webhook](), "webhook try": of[api.WebhookTry](), "webhook remove": of[did](),
	"secrets rotate": of[rotated](),
}

// Answer is the JSON Schema of what a command prints, with the definitions that it refers to.
func Answer(command string) (*huma.Schema, huma.Registry, bool) {
	t, known := answers[command]
	if !known {
		return nil, nil, false
	}
	r := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	one := r.Schema(t.one, false, "Answer")
	if t.list == nil {
		return one, r, true
	}
	return &huma.Schema{AnyOf: []*huma.Schema{one, r.Schema(t.list, false, "Answers")}}, r, true
}

// answerSchema is Answer as text.
func answerSchema(command string) ([]byte, error) {
	s, r, known := Answer(command)
	if !known {
		all := slices.Sorted(maps.Keys(answers))
		near := "; `lantern schema --help` says how they are named"
		if n := names.Nearest(command, all); n != "" {
			near = "; did you mean `lantern schema " + n + "`?"
		}
		return nil, wrong("no command %q prints JSON that has a schema%s", command, near)
	}
	title := strings.TrimSpace("What lantern " + command + " prints as JSON")
	return web.SchemaText(s, r.Map(), strings.ReplaceAll(command, " ", "-"), title)
}
