package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"dimlantern/docs"
)

// unitPath is where a unit of the system is installed.
const unitPath = "/etc/systemd/system/dimlantern.service"

// install writes the service's unit, and says what is still to be done. Path is a
// file, or "" for the system's own place.
func install(out io.Writer, path string, o *places) error {
	if path == "" {
		path = unitPath
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if self, err = filepath.EvalSymlinks(self); err != nil {
		return err
	}
	for _, p := range []string{self, o.settings, o.data} {
		if strings.ContainsAny(p, " \"'\\%$\n") {
			return fmt.Errorf("%q has a space or a special mark in it, which a unit cannot hold well: put it "+
				"elsewhere", p)
		}
	}
	unit := strings.Replace(docs.Unit, "/usr/local/bin/dimlantern", self, 1)
	unit = strings.Replace(unit, "--settings /etc/dimlantern", "--settings "+o.settings, 1)
	unit = strings.Replace(unit, "--data /var/lib/dimlantern", "--data "+o.data, 1)
	if o.data != "/var/lib/dimlantern" {
		unit = strings.Replace(unit, "StateDirectory=dimlantern\nStateDirectoryMode=0700\n", "ReadWritePaths="+o.data+
			"\n", 1)
	}
	if o.settings != "/etc/dimlantern" {
		unit = strings.Replace(unit, "ConfigurationDirectory=dimlantern\n", "", 1)
	}
	_, after, _ := strings.Cut(unit, "\n\n") // what the file says of itself is for who reads it in docs
	unit = "# Written by dimlantern watch --install.\n\n" + after
	if had, err := os.ReadFile(path); err == nil && string(had) != unit {
		return failed{fmt.Sprintf("%s is there already, and is another one: move it away first, or write to "+
			"another file with --install=FILE", path)}
	}
	if err := os.WriteFile(path, []byte(unit), 0o644); err != nil {
		if errors.Is(err, os.ErrPermission) {
			return failed{fmt.Sprintf("%s may not be written by this user: run it as root, or write to another "+
				"file with --install=FILE", path)}
		}
		return err
	}
	fmt.Fprintf(out, "written: %s\n\nstill to be done, as root:\n", path)
	if _, err := user.Lookup("dimlantern"); err != nil {
		fmt.Fprintln(out, "  useradd --system --home-dir "+o.data+" --shell /usr/sbin/nologin dimlantern")
	}
	fmt.Fprintf(out, "  install -d -o dimlantern -g dimlantern -m 0700 %s\n", o.data)
	if path != unitPath {
		fmt.Fprintf(out, "  cp %s %s\n", path, unitPath)
	}
	fmt.Fprintln(out, "  systemctl daemon-reload\n  systemctl enable --now dimlantern")
	fmt.Fprintf(out, "then its screens open with:\n  sudo -u dimlantern %s --settings %s --data %s\n", self, o.settings,
		o.data)
	return nil
}
