package steps

import (
	"regexp/syntax"
	"testing"
)

func BenchmarkMatchLine(b *testing.B) {
	re, err := syntax.Parse(`^(?<at>\S+ \S+) (?<host>\S+) (?<program>[\w-]+)\[(?<pid>\d+)\]: (?<text>.*)$`, syntax.Perl)
	if err != nil {
		b.Fatal(err)
	}
	s := Compile(re, re.CapNames())
	line := []byte("2026-11-30 02:11:34.235 gate-c2 lockd[1012]: INFO ship 8822 passed in 722 ms, keel 12 cm above")
	spans := make([]int, 2*len(re.CapNames()))
	for b.Loop() {
		if !s.MatchLine(line, spans) {
			b.Fatal("it does not fit")
		}
	}
}
