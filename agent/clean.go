package agent

import (
	"context"
	"log/slog"
	"strings"
	"sync"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/survey"
)

// secrets are the words that this host knows and nobody else may: what programs say is
// cleaned of them before it is written anywhere.
type secrets struct {
	mu    sync.RWMutex
	words []string
}

// learn adds secrets.
func (s *secrets) learn(words ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.words = family.AddSecrets(s.words, words...)
}

// hide takes the known secrets, and whatever looks like one, out of a text.
func (s *secrets) hide(text string) string {
	s.mu.RLock()
	words := s.words
	s.mu.RUnlock()
	return family.HideWords(text, words)
}

// clean takes secrets out of what a program said.
func (h *Host) clean(text string) string { return h.secrets.hide(text) }

// learnSecrets notes the secrets that stand in the files of a survey, and in those that
// hold access.
func (h *Host) learnSecrets(r *survey.Result) {
	for _, text := range r.Texts {
		h.secrets.learn(family.SecretsIn(text)...)
	}
	seen := map[string]bool{}
	note := func(name string, in func([]byte) []string) {
		if seen[name] {
			return
		}
		seen[name] = true
		if text, err := h.fs.ReadText(name); err == nil {
			h.secrets.learn(in(text)...)
			if m := strings.TrimSpace(string(text)); !strings.ContainsAny(m, " \n") {
				h.secrets.learn(m) // a variable is its value alone
			}
		}
	}
	if m, err := h.accessMemory(); err == nil {
		for _, f := range m.Files {
			if !strings.HasSuffix(f.Path, ".crt") && !strings.HasSuffix(f.Path, ".key") && !strings.HasSuffix(f.Path, "_login") {
				note(f.Path, family.SecretsGiven)
			}
		}
	}
	for _, a := range r.Survey.Access {
		if a.Kind != "client-certificate" {
			note(a.Where, family.SecretsIn)
		}
	}
}

// cleaner is a log handler that writes no secret of the host.
type cleaner struct {
	slog.Handler
	host *Host
}

// CleanLog is a log that holds no secret that the host knows.
func (h *Host) CleanLog(log *slog.Logger) *slog.Logger {
	return slog.New(cleaner{log.Handler(), h})
}

func (c cleaner) Handle(ctx context.Context, r slog.Record) error {
	out := slog.NewRecord(r.Time, r.Level, c.host.clean(r.Message), r.PC)
	r.Attrs(func(a slog.Attr) bool {
		out.AddAttrs(c.attr(a))
		return true
	})
	return c.Handler.Handle(ctx, out)
}

func (c cleaner) attr(a slog.Attr) slog.Attr {
	v := a.Value.Resolve()
	switch v.Kind() {
	case slog.KindString:
		return slog.String(a.Key, c.host.clean(v.String()))
	case slog.KindAny:
		if err, ok := v.Any().(error); ok {
			return slog.String(a.Key, c.host.clean(err.Error()))
		}
	}
	return a
}

func (c cleaner) WithAttrs(attrs []slog.Attr) slog.Handler {
	for i := range attrs {
		attrs[i] = c.attr(attrs[i])
	}
	return cleaner{c.Handler.WithAttrs(attrs), c.host}
}

func (c cleaner) WithGroup(name string) slog.Handler {
	return cleaner{c.Handler.WithGroup(name), c.host}
}
