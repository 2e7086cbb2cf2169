package cli

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/text/lines"
)

func (a *app) keyRetire() *cobra.Command {
	var anyway, write bool
	cmd := &cobra.Command{
		Use: "retire KEY FOLDER", Short: "Take a key out of the policy that another has taken over from", Args: cobra.ExactArgs(2),
		Long: "Take a key out of a policy folder when its vendor has gone over to the next one: a patch of the folder is\n" +
			"printed. The key's definition goes, those that succeed it stand where it was named, and its file goes where\n" +
			"nothing else names it. All else stays as it is written; the result is read again, and nothing but that has\n" +
			"changed in it. Publish and carry it as any change.\n\n" +
			"The service is asked first whether the key can go: the next one is on every host that believes it, and the\n" +
			"vendor signs with that one at every place that was seen. Otherwise nothing is printed, and it is said why.\n" +
			"--anyway asks nobody. Of dnf, zypper, pacman and flatpak it is said that they check each package: one that\n" +
			"the old key alone has signed is refused afterwards.",
		Example: "  lantern key retire saltmarsh-2026 policy\n" +
			"  lantern key retire saltmarsh-2026 policy | git -C policy apply\n" +
			"  lantern key retire saltmarsh-2026 policy --write",
		RunE: func(cmd *cobra.Command, args []string) error {
			key, dir := args[0], args[1]
			folder, diags := policy.Collect(os.DirFS(dir))
			if a.diagnostics(dir, diags) > 0 {
				return no("%s cannot be read as a policy", dir)
			}
			r, err := policy.Retire(folder, key, time.Now())
			if err != nil {
				return no("%v", err)
			}
			if !anyway {
				if err := a.mayGo(cmd.Context(), r); err != nil {
					return err
				}
			}
			return a.retired(dir, folder, r, write)
		},
	}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "do not ask whether it can go")
	cmd.Flags().BoolVar(&write, "write", false, "change the files of the folder instead of printing a patch")
	return cmd
}

// mayGo asks the service whether a key can go. One that no repository is believed by can.
func (a *app) mayGo(ctx context.Context, r *policy.Retirement) error {
	if len(r.Believed) == 0 {
		return nil
	}
	stop := a.waiting("asking where its replacement stands")
	k, err := a.client().Key(ctx, r.Fingerprint, true, client.List{PerPage: 1})
	stop()
	switch {
	case err != nil:
		return err
	case k.MayGo:
		if k.Unknown > 0 {
			a.errOut.Printf("%s sent no survey yet, so which keys they believe is not known.", a.unsure(k.Unknown))
		}
		a.silent(a.errOut, k.Silent, k.Quiet...)
	case k.SucceededBy == "":
		return no("%s cannot go: no key that is published succeeds it; --anyway if you know better", r.Key)
	case k.Replacement == "":
		return no("%s cannot go yet, as far as is known: no host believes it or the one that succeeds it; --anyway if you know better", r.Key)
	default:
		return no("%s cannot go yet: %s; --anyway if you know better", r.Key, k.Replacement)
	}
	return nil
}

// keyPatch is what key retire prints as JSON.
type keyPatch struct {
	Files    []string   `json:"files" doc:"That the patch changes"`
	Patch    string     `json:"patch"`
	Gone     []string   `json:"files_gone" doc:"Key files that nothing names then"`
	Mentions []diag.Pos `json:"mentions" doc:"Lines that speak of the key still, in comments"`
	Checked  []string   `json:"checked_packages" doc:"Repositories of package managers that check the signature of each package, an old one too"`
}

// retired prints or writes what a folder is without a key.
func (a *app) retired(dir string, folder policy.Folder, r *policy.Retirement, write bool) error {
	changed := slices.Sorted(maps.Keys(r.Files))
	if !write {
		a.leftOf(r, folder, write)
		patch := retirePatch(folder, r)
		if done, err := a.json(keyPatch{changed, patch, r.Gone, r.Mentions, r.Checked}); done {
			return err
		}
		a.patch(patch)
		return nil
	}
	for i, name := range changed {
		if err := writeFile(filepath.Join(dir, name), r.Files[name]); err != nil {
			return err
		}
		changed[i] = filepath.Join(dir, name)
	}
	a.leftOf(r, folder, write) // once it is so
	if a.format != "table" {
		return a.wrote(changed...)
	}
	a.out.Printf("%s is out of %s: %s changed, %s.", r.Key, dir, view.Count(len(changed), "file", "files"), strings.Join(changed, ", "))
	a.out.Printf("Next: lantern policy preview %s, then lantern policy publish %s", dir, dir)
	return nil
}

// retirePatch is the change of a folder. A key file in binary form is not in it.
func retirePatch(folder policy.Folder, r *policy.Retirement) string {
	var out strings.Builder
	for _, name := range slices.Sorted(maps.Keys(r.Files)) {
		out.WriteString(lines.Unified("a/"+name, "b/"+name, string(folder[name]), string(r.Files[name])))
	}
	for _, name := range r.Gone {
		if utf8.Valid(folder[name]) {
			out.WriteString(lines.Unified("a/"+name, "", string(folder[name]), ""))
		}
	}
	return out.String()
}

// leftOf says what people have to look at.
func (a *app) leftOf(r *policy.Retirement, folder policy.Folder, write bool) {
	note := a.errOut.Paint(view.Yellow, "! ")
	for _, name := range r.Gone {
		if write || !utf8.Valid(folder[name]) {
			a.errOut.Printf("%s%s is named by nothing any more: remove it", note, name)
		}
	}
	for _, at := range r.Mentions {
		a.errOut.Printf("%s%s: a comment speaks of %s still", note, at, r.Key)
	}
	if len(r.Checked) > 0 {
		a.errOut.Printf("%s%s: dnf, zypper, pacman and flatpak check each package, and refuse one that %s alone has signed",
			note, strings.Join(r.Checked, ", "), r.Key)
	}
}
