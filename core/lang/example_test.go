package lang_test

import (
	"fmt"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// A rule is parsed, checked, and said in words; what is wrong or doubtful comes with its
// place and with what mends it.
func ExampleCheck() {
	file := lang.Parse("pumps.lantern", []byte(`
source pumps { files "/var/log/pumps.log" }
rule pressure-low {
  on       pumps
  problem  /pump (?<pump>\d+) pressure low/
  per      pump
  raise    warning at 3 in 5m
  raise    eror at 9 in 5m
  clear    after 10m quiet
}`))
	settings, diagnostics := lang.Check([]*lang.File{file}, lang.Env{Time: layout.CheckTime})
	for _, d := range diagnostics {
		if d.Weight == lang.Err {
			fmt.Printf("%s: %s: %s\n", d.Pos, d.Code, d.What)
		}
	}
	fmt.Println(len(settings.Sources), "source,", len(settings.Rules), "rules without an error")
	// Output:
	// pumps.lantern:8:12: unknown-severity: there is no severity "eror"
	// 1 source, 0 rules without an error
}

// A file is written in its one form; comments stay.
func ExampleFile_Format() {
	fmt.Print(lang.Parse("a", []byte("rule a{ problem \"x\" # so it says\n per host\n}")).Format())
	// Output:
	// rule a {
	//   problem "x"  # so it says
	//   per     host
	// }
}
