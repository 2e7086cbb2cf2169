package cli

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/text/lines"
)

func (a *app) policyAdopt() *cobra.Command {
	var from string
	var m meant
	var also []string
	var write bool
	cmd := &cobra.Command{
		Use: "adopt [HOST...] FILE[:LINE] FOLDER", Short: "Take a source that hosts have into the policy",
		Args: cobra.MinimumNArgs(2),
		Long: "Take a source that a host has and the policy does not list into the policy: a patch of the folder is\n" +
			"printed, which adds a file with the repository, its keys and who gets it. Nothing that is there is\n" +
			"edited. It is tried first: with it, the finding is gone. Read it before you put it in; what is not\n" +
			"checked on the host is marked in it. Of many hosts those that have it at that place get it; how\n" +
			"many have not is said.\n\n" +
			"What is not a source (a pin, a setting, a key) is taken as it stands with lantern host accept, or put\n" +
			"up with until a date with lantern waiver add.",
		Example: "  lantern policy adopt gw-04 /etc/apt/sources.list.d/plover.list policy\n" +
			"  lantern policy adopt gw-04 /etc/apt/sources.list.d/plover.list policy | git -C policy apply\n" +
			"  lantern policy adopt gw-04 /etc/apt/sources.list.d/plover.list policy --write --group gateways\n" +
			"  lantern policy adopt 'gw-{04..06}' /etc/yum.repos.d/own.repo:4 policy --write",
		RunE: func(cmd *cobra.Command, args []string) error {
			named, file, dir := append(apart(args[:len(args)-2]), also...), args[len(args)-2], args[len(args)-1]
			if len(also) > 0 {
				a.renamed("--also HOST", "adopt HOST... FILE FOLDER")
			}
			at, err := place(file)
			if err != nil {
				return err
			}
			folder, diags := policy.Collect(os.DirFS(dir))
			if a.diagnostics(dir, diags) > 0 {
				return no("%s cannot be read as a policy", dir)
			}
			hosts, err := a.snapshots(cmd.Context(), from, &m, named)
			if err != nil {
				return err
			}
			res, err := learn.Adopt(folder, hosts, at, time.Now())
			if err != nil {
				return no("%v", err)
			}
			if n := len(res.Without); n > 0 {
				a.errOut.Printf("%sleft out, with nothing there that the policy does not list: %s: %s",
					a.errOut.Paint(view.Yellow, "? "), view.Count(n, "host", "hosts"), someNames(res.Without, 6))
			}
			return a.adopted(dir, res, write)
		},
	}
	m.add(a, cmd)
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys, instead of the fleet")
	cmd.Flags().Var(namesFlag{&also}, "also", "further hosts")
	must(cmd.Flags().MarkHidden("also"))
	cmd.Flags().BoolVar(&write, "write", false, "write the files into the folder instead of printing a patch")
	return cmd
}

// fileAndLine parts FILE[:LINE]; 0 for no line.
func fileAndLine(s string) (file string, line int) {
	if i := strings.LastIndexByte(s, ':'); i > 0 {
		if n, err := strconv.Atoi(s[i+1:]); err == nil && n > 0 {
			return s[:i], n
		}
	}
	return s, 0
}

// place reads FILE[:LINE].
func place(s string) (learn.Place, error) {
	at := learn.Place{}
	at.File, at.Line = fileAndLine(s)
	if !filepath.IsAbs(at.File) {
		return at, wrong("%q is no path on a host; write it from the root, as lantern drift shows it", s)
	}
	return at, nil
}

// snapshots reads the surveys of hosts, by full or short name: of the fleet, or of a folder of
// saved ones.
func (a *app) snapshots(ctx context.Context, from string, m *meant, named []string) ([]saved.Snapshot, error) {
	var out []saved.Snapshot
	if from == "" {
		hosts, err := m.hosts(ctx, a, named)
		if err != nil {
			return nil, err
		}
		for _, h := range hosts {
			s, err := a.client().Survey(ctx, h)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
		return out, nil
	}
	if m.some() {
		return nil, wrong("--group and --where ask the service; with --surveys name the hosts")
	}
	hosts, err := spelled(named)
	if err != nil {
		return nil, err
	}
	if len(hosts) == 0 {
		return nil, wrong("say which hosts: names, or ranges as gw-{01..04}")
	}
	list, err := surveys(from)
	if err != nil {
		return nil, err
	}
	for _, h := range hosts {
		s, err := surveyOf(list, h, from)
		if err != nil {
			return nil, err
		}
		out = append(out, *s)
	}
	return out, nil
}

// patchText is what policy adopt prints as JSON.
type patchText struct {
	Files []string `json:"files" doc:"That the patch adds"`
	Patch string   `json:"patch"`
}

// patch prints one as git takes it.
func (a *app) patch(text string) {
	for line := range strings.Lines(text) {
		a.out.Printf("%s", strings.TrimSuffix(line, "\n"))
	}
}

// adopted prints or writes what would be added.
func (a *app) adopted(folder string, res *learn.Result, write bool) error {
	a.notes(a.errOut, res.Notes)
	names := slices.Sorted(maps.Keys(res.Files))
	if !write {
		var patch strings.Builder
		for _, name := range names {
			patch.WriteString(lines.Unified("/dev/null", "b/"+name, "", string(res.Files[name])))
		}
		if done, err := a.json(patchText{names, patch.String()}); done {
			return err
		}
		a.patch(patch.String())
		return nil
	}
	for _, name := range names {
		if err := writeFile(filepath.Join(folder, name), res.Files[name]); err != nil {
			return err
		}
	}
	if a.format != "table" {
		return a.wrote(names...)
	}
	a.out.Printf("%s written to %s: %s.", view.Count(len(names), "file", "files"), folder, strings.Join(names, ", "))
	a.out.Printf("Next: read them, then lantern policy check %s and lantern policy preview %s", folder, folder)
	return nil
}
