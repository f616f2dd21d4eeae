package main

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"dimlantern/store"
)

func backupCommand() *cobra.Command {
	o := &places{}
	c := &cobra.Command{
		Use:   "backup FILE",
		Short: "Writes the data folder into one file, consistent while the service runs",
		Long: `Backup writes a compressed archive (tar, gzip) of the data folder: the database, what is kept, keys, and
what a centre knows of its hosts. Unpacked into an empty folder it is the data of a service that
goes on from there; a centre then gets from its hosts what they have decided since. The archive
has secrets in it, and nobody but its owner can read it.`,
		Example: "  dimlantern backup /srv/backup/mast.tar.gz\n  mkdir data && tar -C data -xzf mast.tar.gz",
		Args:    exactlyOne("one FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := o.clean(); err != nil {
				return err
			}
			n, err := backup(o.data, args[0])
			if err != nil {
				return failed{err.Error()}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s, %s\n", args[0], humanize.Bytes(uint64(n)))
			return nil
		},
	}
	o.dataFlag(c)
	return c
}

// backup archives a data folder, and answers how long the archive is.
func backup(data, into string) (int64, error) {
	st, err := store.OpenToRead(data)
	if err != nil {
		return 0, err
	}
	defer st.Close()
	tmp, err := os.MkdirTemp(filepath.Dir(into), ".backup-*")
	if err != nil {
		return 0, fmt.Errorf("nothing can be written beside %s: %w", into, reason(err))
	}
	defer os.RemoveAll(tmp)
	copied := filepath.Join(tmp, "lantern.db")
	if err := st.CopyTo(copied); err != nil {
		return 0, fmt.Errorf("the database cannot be copied: %w", err)
	}
	out, err := os.CreateTemp(tmp, "archive-*") // which nobody else can read
	if err != nil {
		return 0, err
	}
	defer out.Close()
	z := gzip.NewWriter(out)
	w := tar.NewWriter(z)
	err = archive(w, copied, "lantern.db")
	if err == nil {
		err = filepath.WalkDir(data, func(path string, d fs.DirEntry, err error) error {
			name, _ := filepath.Rel(data, path)
			switch {
			case errors.Is(err, fs.ErrNotExist): // it went meanwhile, as what is old does
				return nil
			case err != nil || name == ".":
				return err
			case d.IsDir() && name == filepath.Join("hosts", "broker"): // hosts send once more what waits there
				return fs.SkipDir
			case d.IsDir() || !d.Type().IsRegular() || slices.Contains([]string{"lock", "socket"}, name) ||
				strings.HasPrefix(name, "lantern.db"):
				return nil
			}
			if err := archive(w, path, name); !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			return nil
		})
	}
	err = errors.Join(err, w.Close(), z.Close(), out.Sync())
	if err == nil {
		err = os.Rename(out.Name(), into)
	}
	if err != nil {
		return 0, fmt.Errorf("the backup cannot be written: %w", reason(err))
	}
	info, err := os.Stat(into)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// archive adds a file as it is now: of one that grows meanwhile, what it had.
func archive(w *tar.Writer, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	h := &tar.Header{Name: filepath.ToSlash(name), Mode: int64(info.Mode().Perm()), Size: info.Size(),
		ModTime: info.ModTime()}
	if err := w.WriteHeader(h); err != nil {
		return err
	}
	n, err := io.CopyN(w, f, info.Size())
	if err == io.EOF { // it was cut meanwhile
		_, err = w.Write(make([]byte, info.Size()-n))
	}
	return err
}
