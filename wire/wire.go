// Package wire writes JSON as the service answers and as commands print it: moments in one
// form everywhere, RFC 3339 in UTC with milliseconds, which is what is stored.
package wire

import (
	"io"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"
)

// Moment is the form of a moment.
const Moment = "2006-01-02T15:04:05.000Z07:00"

// options are those of encoding/json, but for moments.
var options = json.JoinOptions(
	jsonv1.DefaultOptionsV1(), jsontext.EscapeForHTML(false),
	json.WithMarshalers(json.MarshalToFunc(func(e *jsontext.Encoder, t time.Time) error {
		return e.WriteToken(jsontext.String(t.UTC().Format(Moment)))
	})),
)

// stored are the options of encoding/json, but that a text is not looked through before it is read.
var stored = json.JoinOptions(jsonv1.DefaultOptionsV1(), jsonv1.ReportErrorsWithLegacySemantics(false))

// Read reads what was written here, or looked at when it came, as encoding/json would and in
// half the time. Where it fails, a part of the value may have been read.
func Read(text []byte, v any) error { return json.Unmarshal(text, v, stored) }

// Write writes a value on a line of its own.
func Write(w io.Writer, v any) error { return line(w, v, options) }

// WriteIndented writes a value over many lines, for people.
func WriteIndented(w io.Writer, v any) error { return line(w, v, options, jsontext.WithIndent("  ")) }

// Text is the text of a value.
func Text(v any) ([]byte, error) { return json.Marshal(v, options) }

func line(w io.Writer, v any, o ...json.Options) error {
	text, err := json.Marshal(v, o...)
	if err != nil {
		return err
	}
	_, err = w.Write(append(text, '\n'))
	return err
}
