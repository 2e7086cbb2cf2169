package agent

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/source"
)

// maxExport bounds a sheet that is read from an export, in bytes.
const maxExport = 32 << 20

// ReadExport reads the sheet out of an export (tar).
func ReadExport(r io.Reader) (sheet []byte, err error) {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("it holds no %s: it is no export", api.ExportSheet)
		}
		if err != nil {
			return nil, fmt.Errorf("it cannot be read as tar: %w", err)
		}
		if h.Name != api.ExportSheet {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(t, maxExport+1))
		if err == nil && len(text) > maxExport {
			err = errors.New("its sheet is larger than 32 MiB")
		}
		return text, err
	}
}

// errEnrolled is the error for a host that a service looks after.
var errEnrolled = errors.New("this host has joined a service, which carries changes to it; lantern-agent forget ends that")

// offline prepares carrying without a service. Who calls it releases the host afterwards.
func (h *Host) offline(log *slog.Logger) (c *carrier, release func(), err error) {
	if release, err = h.lock(); err != nil {
		return nil, nil, err
	}
	if _, err = os.Lstat(h.statePath("enrolment.json")); err == nil {
		err = errEnrolled
	} else {
		_, err = h.Recover()
	}
	if err != nil {
		release()
		return nil, nil, err
	}
	return &carrier{
		host: h, log: h.CleanLog(log), now: h.now,
		report: api.Report{Edits: []api.PreviewFile{}, Sources: []api.SourceOutcome{}, Took: map[string]int64{}},
	}, release, nil
}

// CarryExport carries a sheet out on a host that no service looks after: by the same steps, and
// with the same undo.
func (h *Host) CarryExport(ctx context.Context, text []byte, log *slog.Logger) (*api.Report, error) {
	c, release, err := h.offline(log)
	if err != nil {
		return nil, err
	}
	defer release()
	c.delivery = api.Delivery{Sheet: source.Digest(text), Rollout: c.now().UnixMilli(), Issued: c.now().UTC()}
	sheet, err := verifySheet(text, c.delivery)
	if err != nil {
		return nil, err
	}
	c.report.Sheet = c.delivery.Sheet
	changed, err := c.once(ctx, sheet)
	if err != nil {
		c.hush()
		return &c.report, errors.New(h.clean(oneLine(err.Error())))
	}
	if err := c.remember(text); err != nil {
		return &c.report, err
	}
	c.report.State = "unchanged"
	if changed {
		c.report.State = "done"
	}
	c.report.Message = unfetched(c.report)
	c.hush()
	return &c.report, nil
}

// TryExport tells what carrying a sheet out would change, as a diff.
func (h *Host) TryExport(text []byte) (diff string, err error) {
	sheet, err := verifySheet(text, api.Delivery{Sheet: source.Digest(text)})
	if err != nil {
		return "", err
	}
	now := h.surveyFor(sheet)
	if err := permitSheet(sheet, &now.Survey); err != nil {
		return "", err
	}
	plan := change.Compute(change.Input{
		Sheet: sheet, Survey: &now.Survey, Texts: now.Masked(), Before: h.lastSheet(), Kept: h.kept(), Masked: true,
	})
	if len(plan.Impossible) > 0 {
		return "", errors.New(plan.Impossible[0])
	}
	return plan.Diff(), nil
}

// UndoExport gives the host again what it had before the newest change.
func (h *Host) UndoExport(ctx context.Context, log *slog.Logger) (*api.Report, error) {
	c, release, err := h.offline(log)
	if err != nil {
		return nil, err
	}
	defer release()
	old, _, digest, err := h.lastChange()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errors.New("there is no change that could be taken back")
	}
	if err != nil {
		return nil, err
	}
	var before memory
	if b, err := os.ReadFile(h.statePath(lastDir + "/state-memory.json")); err == nil {
		_ = json.Unmarshal(b, &before) // a number for lists; the files are what counts
	}
	c.delivery = api.Delivery{
		Sheet: digest, BackOut: old.Rollout, Rollout: c.now().UnixMilli(), Revision: before.Revision, Issued: c.now().UTC(),
	}
	if err := c.backOut(ctx); err != nil {
		c.hush()
		return &c.report, errors.New(h.clean(oneLine(err.Error())))
	}
	c.hush()
	return &c.report, nil
}
