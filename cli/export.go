package cli

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/source"
)

func (a *app) hostExport() *cobra.Command {
	var o api.ExportOrder
	var traits, to string
	cmd := &cobra.Command{
		Use: "export HOST -o FILE", Short: "Write the files that a host would have, as a tar", Args: cobra.ExactArgs(1),
		Long: "For images, and for hosts that nobody reaches: the tar holds the files of the policy with their modes, owned by root, and the\n" +
			"sheet, which lantern-agent carry --export carries out there by the same steps and with the same undo.\n" +
			"--traits names a file with what the host is: the output of lantern read --format json there, or the traits of it.",
		Example: "  lantern host export gw-01 -o gw-01.tar\n  lantern host export buoy-7.brinewick.test --traits buoy-7.json -o buoy-7.tar",
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return wrong("say where to with -o FILE")
			}
			o.Host = args[0]
			if traits != "" {
				var err error
				if o.Traits, err = readTraits(traits); err != nil {
					return err
				}
			}
			x, err := a.client().Export(cmd.Context(), o)
			if err != nil {
				return err
			}
			text, err := exportTar(&x, time.Now())
			if err != nil {
				return err
			}
			if err := renameio.WriteFile(to, text, 0o644); err != nil {
				return no("%s cannot be written: %v", to, err)
			}
			if done, err := a.json(x); done {
				return err
			}
			a.out.Printf("%s: %s of revision %d for %s.", to, view.Count(len(x.Files), "file", "files"), x.Revision, x.Host)
			for _, l := range x.Left {
				a.out.Printf("%s %s", a.out.Paint(view.Yellow, "not in the files alone:"), l)
			}
			a.out.Printf("On the host: lantern-agent carry --export %s --dry-run, then without --dry-run.", to)
			return nil
		},
	}
	cmd.Flags().StringVarP(&to, "output", "o", "", "file to write")
	cmd.Flags().StringVar(&traits, "traits", "", "file with what the host is (JSON)")
	cmd.Flags().StringToStringVar(&o.Labels, "label", nil, "labels of it, as duty=model; with --traits")
	cmd.Flags().Int64Var(&o.Revision, "revision", 0, "the revision; 0 for the newest")
	return cmd
}

// readTraits reads traits, alone or in a survey.
func readTraits(name string) (*source.Traits, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, wrong("%s cannot be read: %v", name, err)
	}
	var s struct {
		Traits *source.Traits `json:"traits"`
	}
	t := &source.Traits{}
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, wrong("%s is no JSON: %v; write it with lantern read --format json", name, err)
	}
	if s.Traits != nil {
		return s.Traits, nil
	}
	if err := json.Unmarshal(text, t); err != nil || t.OS.ID == "" {
		return nil, wrong("%s holds no traits; write it with lantern read --format json on the host", name)
	}
	return t, nil
}

// exportTar writes an export: the files below their paths, and the sheet.
func exportTar(x *api.Export, now time.Time) ([]byte, error) {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	add := func(name, mode, text string) error {
		bits, err := strconv.ParseInt(mode, 8, 32)
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{
			Name: name, Mode: bits, Size: int64(len(text)), Typeflag: tar.TypeReg, ModTime: now.Truncate(time.Second), Uname: "root", Gname: "root",
			Format: tar.FormatPAX,
		}); err != nil {
			return err
		}
		_, err = w.Write([]byte(text))
		return err
	}
	for _, f := range x.Files {
		if err := add(strings.TrimPrefix(f.Path, "/"), f.Mode, f.Text); err != nil {
			return nil, err
		}
	}
	if err := add(api.ExportSheet, "0644", string(x.Sheet)); err != nil {
		return nil, err
	}
	err := w.Close()
	return out.Bytes(), err
}
