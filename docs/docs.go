// Package docs holds the documents that the program itself needs.
package docs

import _ "embed"

// Unit is the service's unit of systemd, with the paths of a usual machine.
//
//go:embed dimlantern.service
var Unit string
