package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
)

// keptHBA is what is appended to the name of a pg_hba.conf while another is in its place.
const keptHBA = ".velvet-kept"

// withHBA works in the directory of an original's pg_hba.conf.
func (h *Host) withHBA(o Original, hba string, do func(own *Host, t *Tree, name string) error) error {
	own, err := h.As(o.User)
	if err != nil {
		return err
	}
	t, err := own.RealTree(filepath.Dir(hba))
	if err != nil {
		return err
	}
	return errors.Join(do(own, t, filepath.Base(hba)), t.Close())
}

// HBA reads an original's pg_hba.conf.
func (h *Host) HBA(o Original, hba string) (content string, err error) {
	err = h.withHBA(o, hba, func(_ *Host, t *Tree, name string) error {
		b, err := t.ReadFile(name + keptHBA)
		if errors.Is(err, fs.ErrNotExist) {
			b, err = t.ReadFile(name)
		}
		content = string(b)
		return err
	})
	return content, err
}

// Refuse has an original's pg_hba.conf be another.
func (h *Host) Refuse(ctx context.Context, o Original, hba, content string) error {
	return h.withHBA(o, hba, func(own *Host, t *Tree, name string) error {
		if _, err := t.Lstat(name + keptHBA); errors.Is(err, fs.ErrNotExist) {
			was, err := t.ReadFile(name)
			if err != nil {
				return err
			}
			info, err := t.Lstat(name)
			if err != nil {
				return err
			}
			if err := t.WriteFile(name+keptHBA, was, info.Mode().Perm()); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
		if err := t.WriteFile(name, []byte(content), 0o600); err != nil {
			return err
		}
		return own.reload(ctx, o)
	})
}

// Admit undoes Refuse.
func (h *Host) Admit(ctx context.Context, o Original, hba string) error {
	return h.withHBA(o, hba, func(own *Host, t *Tree, name string) error {
		if _, err := t.Lstat(name + keptHBA); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err := errors.Join(t.Rename(name+keptHBA, name), SyncDir(t.Dir())); err != nil {
			return err
		}
		return own.reload(ctx, o)
	})
}

// reload has an original take notice of its configuration, if it runs.
func (h *Host) reload(ctx context.Context, o Original) error {
	if !h.Running(o.server()) {
		return nil
	}
	if err := h.run(ctx, o.Major, "pg_ctl", "reload", "-D", o.DataDir); err != nil {
		return fmt.Errorf("have the server in %s read its configuration: %w", o.DataDir, err)
	}
	return nil
}
