package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
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
	var m meant
	cmd := &cobra.Command{
		Use: "export HOST... -o FILE", Short: "Write the files that a host would have, as a tar",
		Long: "For images, and for hosts that nobody reaches: the tar holds the files of the policy with their modes, owned by root, and the\n" +
			"sheet, which lantern-agent carry --export carries out there by the same steps and with the same undo.\n" +
			"--traits names a file with what the host is: the output of lantern read --format json there, or the traits of it.\n" +
			"Of several hosts -o is a folder, and each has a file of its name there.",
		Example: "  lantern host export gw-01 -o gw-01.tar\n" +
			"  lantern host export buoy-7.brinewick.test --traits buoy-7.json -o buoy-7.tar",
		ValidArgsFunction: a.completeEveryHost,
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return wrong("say where to with -o FILE")
			}
			if traits != "" {
				var err error
				if o.Traits, err = readTraits(traits); err != nil {
					return err
				}
			}
			file, into := to, inFolder(to)
			if !into && m.several(args) {
				return wrong("%s is no folder; of several hosts each has a file of its own in one", to)
			}
			return every(cmd.Context(), a, &m, args, func(h string) (api.Export, error) {
				if o.Host = h; into {
					file = filepath.Join(to, filepath.Base(h)+".tar")
				}
				return a.exported(cmd.Context(), o, file)
			}, func(x *api.Export) {
				a.out.Printf("%s: %s of revision %d for %s.", file, view.Count(len(x.Files), "file", "files"), x.Revision, x.Host)
				for _, l := range x.Left {
					a.out.Printf("%s %s", a.out.Paint(view.Yellow, "not in the files alone:"), l)
				}
				a.out.Printf("On the host: lantern-agent carry --export %s --dry-run, then without --dry-run.", file)
			})
		},
	}
	m.add(a, cmd)
	cmd.Flags().StringVarP(&to, "output", "o", "", "file to write")
	cmd.Flags().StringVar(&traits, "traits", "", "file with what the host is (JSON)")
	cmd.Flags().StringToStringVar(&o.Labels, "label", nil, "labels of it, as duty=model; with --traits")
	cmd.Flags().Int64Var(&o.Revision, "revision", 0, "the revision; 0 for the newest")
	return cmd
}

// inFolder reports whether a name is that of a folder which is there.
func inFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// exported writes what a host would have to a file.
func (a *app) exported(ctx context.Context, o api.ExportOrder, file string) (api.Export, error) {
	x, err := a.client().Export(ctx, o)
	if err != nil {
		return x, err
	}
	text, err := exportTar(&x, time.Now())
	if err != nil {
		return x, err
	}
	if err := renameio.WriteFile(file, text, 0o644); err != nil {
		return x, no("%s cannot be written: %v", file, err)
	}
	return x, nil
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
