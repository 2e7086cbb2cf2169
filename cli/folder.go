package cli

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
)

//go:embed starter
var starter embed.FS

func (a *app) policyNew() *cobra.Command {
	return &cobra.Command{
		Use: "new FOLDER", Short: "Write a commented starter folder", Args: cobra.ExactArgs(1),
		Long: "Write a policy folder to begin with: a few files with comments that say what goes where. The\nfolder must not be there, " +
			"or be empty. To begin with what a fleet has, see lantern policy learn.",
		Example: "  lantern policy new ./policy\n  lantern policy check ./policy",
		RunE: func(_ *cobra.Command, args []string) error {
			if err := emptyFolder(args[0]); err != nil {
				return err
			}
			var wrote []string
			err := fs.WalkDir(starter, "starter", func(name string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				text, err := starter.ReadFile(name)
				if err != nil {
					return err
				}
				to := filepath.Join(args[0], strings.TrimPrefix(name, "starter/"))
				if err := writeFile(to, text); err != nil {
					return err
				}
				wrote = append(wrote, to)
				return nil
			})
			if err != nil {
				return err
			}
			return a.wrote(wrote...)
		},
	}
}

// filesWritten is what a command that writes files says as JSON.
type filesWritten struct {
	Files []string `json:"files" doc:"That were written"`
}

// wrote tells the files that were written.
func (a *app) wrote(files ...string) error {
	if done, err := a.json(filesWritten{files}); done {
		return err
	}
	for _, f := range files {
		a.out.Printf("%s", f)
	}
	return nil
}

// writeFile writes a file of a policy folder, with the folders that it stands in.
func writeFile(to string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return no("%v", err)
	}
	if err := renameio.WriteFile(to, text, 0o644); err != nil {
		return no("%v", err)
	}
	return nil
}

func makeFolder(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return no("%v", err)
	}
	return nil
}

// emptyFolder wants a folder that is not there yet, or that is empty. Nothing is made yet.
func emptyFolder(dir string) error {
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return no("%v", err)
	case len(entries) > 0:
		return no("%s is not empty; name a new folder, nothing is written over", dir)
	}
	return nil
}

func (a *app) policyFormat() *cobra.Command {
	var check bool
	cmd := &cobra.Command{
		Use: "format FOLDER|FILE...", Short: "Put policy files into the house's form; comments are kept", Args: cobra.MinimumNArgs(1),
		Long: "Put policy files into one form: two blanks for each level, keys in the order of the reference,\n" +
			"one space inside braces. Comments stay where they stand, and no meaning changes. With --check\n" +
			"nothing is written, and the exit status is 1 where a file would change.",
		Example: "  lantern policy format ./policy\n  lantern policy format --check ./policy",
		RunE: func(_ *cobra.Command, args []string) error {
			var files []string
			for _, arg := range args {
				info, err := os.Stat(arg)
				switch {
				case err != nil:
					return wrong("there is no file or folder %s", arg)
				case !info.IsDir():
					files = append(files, arg)
					continue
				}
				f, diags, err := a.sent(arg)
				if err != nil {
					return err
				}
				if diag.HasErrors(diags) { // what is not read is not formatted either
					return no("%s in %s; nothing was written", view.Count(a.diagnostics(arg, diags), "error", "errors"), arg)
				}
				for name := range f {
					if ext := filepath.Ext(name); ext == ".yaml" || ext == ".yml" {
						files = append(files, filepath.Join(arg, name))
					}
				}
			}
			slices.Sort(files)
			return a.tidyFiles(files, check)
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "change nothing; say which files would change")
	return cmd
}

// formatResult is what format prints as JSON.
type formatResult struct {
	File    string `json:"file"`
	State   string `json:"state"` // tidy, changed, refused
	Message string `json:"message,omitempty"`
}

func (a *app) tidyFiles(files []string, check bool) error {
	var out []formatResult
	changed, refused := 0, 0
	for _, name := range files {
		r := formatResult{File: name, State: "tidy"}
		text, err := os.ReadFile(name)
		if err != nil {
			return no("%v", err)
		}
		next, err := policy.Tidy(text)
		switch {
		case err != nil:
			refused++
			r.State, r.Message = "refused", err.Error()+"; lantern policy check says what is wrong with it, if anything"
		case string(next) != string(text):
			changed++
			r.State = "changed"
			if !check {
				info, err := os.Stat(name)
				if err != nil {
					return no("%v", err)
				}
				if err := renameio.WriteFile(name, next, info.Mode().Perm()); err != nil {
					return no("%v", err)
				}
			}
		}
		out = append(out, r)
	}
	done, err := a.json(listed[formatResult]{out, len(out)})
	if err != nil {
		return err
	}
	if !done {
		for _, r := range out {
			switch {
			case r.State == "refused":
				a.out.Printf("%s: %s %s", r.File, a.out.Paint(view.Red, "left as it is:"), r.Message)
			case r.State == "changed" && check:
				a.out.Printf("%s: would change", r.File)
			case r.State == "changed":
				a.out.Printf("%s: changed", r.File)
			}
		}
		if changed+refused == 0 {
			a.out.Printf("%s: %s", a.out.Paint(view.Green, "in form already"), view.Count(len(out), "file", "files"))
		}
	}
	switch {
	case refused > 0:
		return &exit{ExitNo, fmt.Sprintf("%s left as %s", view.Count(refused, "file was", "files were"), "found")}
	case check && changed > 0:
		return &exit{ExitNo, ""}
	}
	return nil
}
