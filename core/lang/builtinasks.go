package lang

// BuiltInAsks are the questions that are there from the start. One of the settings with the name of one
// of them stands in its place.
const BuiltInAsks = `ask alerts-by-rule {
  on   alerts
  show count, sum(told), share(has taken-by), median(lasted)
  per  rule
  over 7d
  most 20
  note "which rules make the most noise"
}
ask until-taken {
  on   alerts
  show count, share(has taken-by), median(taken-after), p90(taken-after)
  per  rule
  over 7d
  most 20
  note "how long until somebody takes it"
}
ask ends-by-itself {
  on   alerts
  show share(lasted < 1m and lacks taken-by), count, median(lasted)
  per  rule
  over 7d
  most 20
  note "what ends by itself within a minute"
}
ask busy-hours {
  on   alerts
  show count
  per  weekday, hour
  over 28d
  note "in which hours of the week alerts are raised"
}
`

// builtInAsksFile is the file name in the places of questions that are built in.
const builtInAsksFile = "built-in questions"

// BuiltIn tells whether the question is one of those that are there from the start.
func (q *Question) BuiltIn() bool { return q.Pos.File == builtInAsksFile }

// builtInAsks adds the questions that are there from the start.
func (k *checker) builtInAsks() {
	f := Parse(builtInAsksFile, []byte(BuiltInAsks))
	for _, b := range f.blocks {
		if contains(k.names["ask"], b.name.src) {
			continue
		}
		q := &Question{Pos: b.name.pos, Name: b.name.src}
		f.readBlock(b, "ask", q)
		k.file[q] = f
		k.settings.Asks = append(k.settings.Asks, q)
	}
}

// Ask returns the question of that name, or nil.
func (s *Settings) Ask(name string) *Question {
	for _, x := range s.Asks {
		if x.Name == name {
			return x
		}
	}
	return nil
}
