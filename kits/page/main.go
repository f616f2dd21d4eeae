// Command page writes the page about the kits.
package main

import (
	"fmt"

	"dimlantern/kits"
)

func main() { fmt.Print(kits.Document()) }
