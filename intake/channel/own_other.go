//go:build !windows

package channel

import (
	"errors"

	"dimlantern/core/lang"
	"dimlantern/intake/feed"
)

// hasOwn tells whether the operating system has channels of its own.
const hasOwn = false

func newOwn([]string, lang.Begin, map[string]string) feed.Feed { return nil }

func listOwn() ([]Info, error) { return nil, errors.New("this operating system has no channels") }
