package cli

import (
	"encoding/csv"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/wire"
)

// moreFormats marks commands that take further formats beside table and json, blanks between.
const moreFormats = "format"

// listing marks a command that prints a list: it takes csv and jsonl too.
func listing(cmd *cobra.Command) {
	cmd.Annotations = mark(cmd.Annotations, "list", "yes")
}

// formats are those that a command takes.
func formats(cmd *cobra.Command) []string {
	out := append([]string{"table", "json"}, strings.Fields(cmd.Annotations[moreFormats])...)
	if cmd.Annotations["list"] != "" {
		for _, f := range []string{"jsonl", "csv"} {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	return out
}

// json prints v where a format for programs was asked for, and reports true then: json as it
// stands, jsonl with a line for each item of a list, csv with a row for each. A command that has
// columns of its own for csv prints them itself.
func (a *app) json(v any) (bool, error) {
	switch {
	case a.format == "json":
		return true, wire.WriteIndented(a.out.JSON(), v)
	case a.format == "jsonl":
		return true, a.line(items(v)...)
	case a.format == "csv" && !a.ownColumns:
		list := items(v)
		head, rows := flat(list)
		if len(list) == 0 {
			head, _ = flat([]any{item(v)})
		}
		return a.csv(head, rows)
	}
	return false, nil
}

// line prints each value as one line of JSON.
func (a *app) line(list ...any) error {
	for _, v := range list {
		if err := wire.Write(a.out.JSON(), v); err != nil {
			return err
		}
	}
	return nil
}

// items are the items of a list; of anything else, the thing itself.
func items(v any) []any {
	list, is := listIn(v)
	if !is {
		return []any{v}
	}
	out := make([]any, list.Len())
	for i := range out {
		out[i] = list.Index(i).Interface()
	}
	return out
}

// item is an item of a list of such a kind with nothing in it, whose columns stand over one that is empty.
func item(v any) any {
	list, _ := listIn(v)
	of := list.Type().Elem()
	if of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	return reflect.Zero(of).Interface()
}

func listIn(v any) (list reflect.Value, is bool) {
	s := reflect.Indirect(reflect.ValueOf(v))
	if s.Kind() != reflect.Struct {
		return s, false
	}
	for i := range s.NumField() {
		if name, _, _ := strings.Cut(s.Type().Field(i).Tag.Get("json"), ","); name == "items" {
			return s.Field(i), true
		}
	}
	return s, false
}

// flat are values of one type as a table: a column for each of their fields.
func flat(list []any) (head []string, rows [][]string) {
	for _, v := range list {
		head = head[:0]
		var row []string
		columns(reflect.Indirect(reflect.ValueOf(v)), "", true, func(name, text string) {
			head, row = append(head, name), append(row, text)
		})
		rows = append(rows, row)
	}
	return head, rows
}

// columns goes through the fields of a struct, and those of structs in it as outer.inner; of one
// that is not there they are empty.
func columns(v reflect.Value, prefix string, there bool, each func(name, text string)) {
	fields(v, func(name string, field reflect.Value) {
		inner, of, is := field, field.Type(), there
		if of.Kind() == reflect.Pointer {
			if of = of.Elem(); field.IsNil() {
				inner, is = reflect.Zero(of), false
			} else {
				inner = field.Elem()
			}
		}
		switch {
		case of.Kind() == reflect.Struct && of != reflect.TypeFor[time.Time]():
			columns(inner, prefix+name+".", is, each)
		case there:
			each(prefix+name, cell(field))
		default:
			each(prefix+name, "")
		}
	})
}

// fields goes through the fields of a struct as JSON names them, those of embedded ones too.
func fields(v reflect.Value, each func(name string, field reflect.Value)) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case name == "-" || !f.IsExported() || name == "token" || name == "secret":
		case f.Anonymous && name == "":
			fields(v.Field(i), each)
		default:
			each(name, v.Field(i))
		}
	}
}

// cell is a value as one cell: times in UTC, words with blanks between, all else as JSON.
func cell(v reflect.Value) string {
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			return ""
		}
		v = v.Elem()
	}
	switch x := v.Interface().(type) {
	case time.Time:
		if x.IsZero() {
			return ""
		}
		return x.UTC().Format(wire.Moment)
	case []string:
		return strings.Join(x, " ")
	}
	switch v.Kind() {
	case reflect.String:
		return v.String()
	case reflect.Map, reflect.Slice, reflect.Struct:
		if v.Kind() != reflect.Struct && v.Len() == 0 {
			return ""
		}
		b, _ := wire.Text(v.Interface())
		return string(b)
	}
	return fmt.Sprint(v.Interface())
}

// csv prints rows as CSV (RFC 4180) and reports true when that is the format.
func (a *app) csv(head []string, rows [][]string) (bool, error) {
	if a.format != "csv" {
		return false, nil
	}
	w := csv.NewWriter(a.out)
	w.UseCRLF = true
	if len(head) > 0 {
		if err := w.Write(head); err != nil {
			return true, err
		}
	}
	for _, r := range rows {
		for i, cell := range r {
			// A spreadsheet must not take a name that a host chose for a formula. A number is none.
			if cell == "" || !strings.ContainsAny(cell[:1], "=+-@\t\r") {
				continue
			}
			if _, err := strconv.ParseFloat(cell, 64); err != nil {
				r[i] = "'" + cell
			}
		}
	}
	return true, w.WriteAll(rows)
}

// did is what became of an order that has no answer of its own.
type did struct {
	Done string `json:"done" doc:"What was done, in one word"`
	Name string `json:"name" doc:"To which"`
}

// did says what was done: in words, or as JSON.
func (a *app) did(done, name, format string, args ...any) error {
	if shown, err := a.json(did{done, name}); shown {
		return err
	}
	a.out.Printf(format, args...)
	return nil
}

// shownOnly prints what would be done, and says that it was not: the status is that of no.
func (a *app) shownOnly(v any, what string) error {
	if done, err := a.json(v); done {
		if err != nil {
			return err
		}
		return &exit{ExitNo, ""}
	}
	return no("%s", what)
}

// problem is an error as RFC 9457 has it, on standard error where JSON is asked for.
type problem struct {
	Title  string   `json:"title"`
	Status int      `json:"status,omitempty" doc:"Of the service's answer, where it gave one"`
	Detail string   `json:"detail"`
	Errors []string `json:"errors,omitempty" doc:"Each thing that is wrong"`
	Exit   int      `json:"exit" doc:"The exit status of the command"`
}

// complaint prints an error in the form that was asked for.
func (a *app) complaint(p problem) {
	if a.format == "json" || a.format == "jsonl" {
		_ = wire.Write(a.errOut.JSON(), p) // nowhere is left to tell that standard error cannot be written
		return
	}
	for _, d := range p.Errors {
		a.errOut.Printf("%s", d)
	}
	a.errOut.Printf("%s%s", a.errOut.Paint(view.Red, "lantern: "), p.Detail)
}
