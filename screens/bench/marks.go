package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"dimlantern/api"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
)

// complete puts the first of the proposed words in the place of what is being typed, or goes
// to the kinds where none is proposed.
func (r *Room) complete() tea.Cmd {
	words := r.proposed()
	if len(words) == 0 {
		r.toKinds()
		return nil
	}
	r.text.remember(r.text.now())
	r.text.area.Insert(string([]rune(words[0])[r.view.Typed:]))
	return r.try()
}

// proposed are the words that fit what is being typed now.
func (r *Room) proposed() []string {
	if r.view == nil || r.pane != ruleText || r.view.Typed == 0 {
		return nil
	}
	col := r.text.area.Col
	line := []rune(lineOf(r.text.Body(), r.text.area.Line))
	if col > len(line) || col < r.view.Typed {
		return nil
	}
	typed := string(line[col-r.view.Typed : col])
	var out []string
	for _, w := range r.view.Complete {
		if strings.HasPrefix(w, typed) && w != typed {
			out = append(out, w)
		}
	}
	return out
}

// mark has the chosen kinds of entries written into the text.
func (r *Room) mark(is string) tea.Cmd {
	source, texts, kinds := r.picked()
	if len(texts) == 0 {
		r.stage.Say("no kind of entries is chosen")
		return nil
	}
	return r.markTexts(is, source, texts, kinds)
}

func (r *Room) markTexts(is, source string, texts, kinds []string) tea.Cmd {
	return r.askMark(api.MarkQuery{Is: is, Source: source, Texts: texts, Kinds: kinds})
}

// askMark has something written into the text that is open.
func (r *Room) askMark(q api.MarkQuery) tea.Cmd {
	q.File, q.Body, q.Line = r.text.file, r.text.Body(), r.text.Line()
	return room.Ask(r.stage, api.MarkEntries, q, room.Patience, func(x *api.Marked, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		if x.Already != "" {
			r.stage.Say(x.Already)
			return nil
		}
		r.text.Replace(x.Body, x.Line)
		r.kinds.picked = map[string]bool{}
		if strings.HasPrefix(x.Clause, "expect ") {
			r.fed = nil
		}
		words := "written: " + x.Clause
		if x.Costs != "" {
			words += "; " + x.Costs
		}
		r.stage.Say(words + "; u takes it back")
		return r.try()
	})
}

// undo takes back what was written last.
func (r *Room) undo() tea.Cmd {
	if !r.text.Undo() {
		return nil
	}
	return r.try()
}

// toText moves the keys to the text.
func (r *Room) toText() { r.pane = ruleText }

// nextOnly shows the next selection of kinds.
func (r *Room) nextOnly() { r.kinds.only = (r.kinds.only + 1) % len(onlyNames) }

// mostFed is how many lines a rule is fed at most.
const mostFed = 50

// feed gives the chosen entry to the rule, or a line that is asked for.
func (r *Room) feed(byHand bool) tea.Cmd {
	give := func(line string) tea.Cmd {
		if strings.TrimSpace(line) == "" || len(r.fed) >= mostFed {
			return nil
		}
		r.fed = append(r.fed, line)
		return r.try()
	}
	if !byHand {
		if k := r.kind(); k != nil {
			return give(k.Example)
		}
		return nil
	}
	r.stage.Prompt(room.Prompt{Label: "feed", Then: give,
		Hint: "+5m before it: so much later; +5m alone: time passes   esc leaves it"}, "")
	return nil
}

// askName asks which value of the chosen entry gets which name.
func (r *Room) askName() {
	k := r.kind()
	if k == nil {
		r.stage.Say("no kind of entries is chosen")
		return
	}
	values := values(k)
	if len(values) == 0 {
		r.stage.Say("this entry has no value that could vary")
		return
	}
	at := 0
	r.kinds.pointed = &values[at]
	label := func() string { return "name for " + k.Example[values[at][0]:values[at][1]] }
	r.stage.Prompt(room.Prompt{Label: label(), Hint: "tab the next value   enter names it   esc leaves it",
		Next: func(p *room.Prompt) tea.Cmd {
			at = (at + 1) % len(values)
			r.kinds.pointed = &values[at]
			p.Label = label()
			return nil
		},
		Left: func() tea.Cmd { r.kinds.pointed = nil; return nil },
		Then: func(name string) tea.Cmd {
			r.kinds.pointed = nil
			return r.askMark(api.MarkQuery{Is: "name", Source: k.Source, Texts: []string{k.Example},
				Kinds: []string{k.ID}, From: values[at][0], To: values[at][1], Name: strings.TrimSpace(name)})
		}}, "")
}

// askSearch asks for words to go to in the text.
func (r *Room) askSearch() {
	r.stage.Prompt(room.Prompt{Label: "search", Hint: "enter goes to the next   esc leaves it",
		Then: func(words string) tea.Cmd {
			if r.text.Search(words) {
				r.pane = ruleText
			} else {
				r.stage.Say("nothing says " + words)
			}
			return r.try()
		}}, r.text.sought)
}

// askWords asks for words that the entries of the sample must have.
func (r *Room) askWords() {
	r.stage.Prompt(room.Prompt{Label: "only entries with",
		Hint: "enter tries it on those alone; empty on all   esc leaves it", Then: func(words string) tea.Cmd {
			r.sample.words = strings.TrimSpace(words)
			return r.try()
		}}, r.sample.words)
}

// askFiles asks for files to try the rule on.
func (r *Room) askFiles() {
	r.stage.Prompt(room.Prompt{Label: "try it on the files",
		Hint: "a path, * stands for any; empty: what its sources say   esc leaves it", Then: func(text string) tea.Cmd {
			files := strings.Fields(text)
			if len(files) == 0 {
				r.sample.files = nil
				return tea.Batch(r.stage.Live(), r.try())
			}
			for i, f := range files { // the service may run in another folder
				if abs, err := filepath.Abs(f); err == nil {
					files[i] = abs
				}
			}
			r.sample.files, r.sample.follow = files, true
			return r.try()
		}}, strings.Join(r.sample.files, " "))
}

// markSample lets the sample begin where the lamp is held, or where the axis does again.
func (r *Room) markSample() tea.Cmd {
	s := r.stage
	switch {
	case r.sample.from != 0:
		r.sample.from = 0
		s.Say("the sample is again what the axis shows")
	case s.Held == 0:
		s.Say("hold the lamp with ← where the sample is to begin, and press s; where the lamp goes then, it ends")
	default:
		r.sample.from = s.Held
		s.Say("the sample begins at the lamp; where it goes now, it ends. s takes that back")
	}
	return r.try()
}

// editOutside opens the text in the user's editor, and comes back with what is written there.
func (r *Room) editOutside() tea.Cmd {
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	words := strings.Fields(editor)
	if len(words) == 0 {
		r.stage.Say("no editor is named: set EDITOR, such as EDITOR=nano")
		return nil
	}
	dir, err := os.MkdirTemp("", "dimlantern-")
	if r.stage.Failed(err) {
		return nil
	}
	path := filepath.Join(dir, filepath.Base(r.text.file))
	if err := os.WriteFile(path, []byte(r.text.Body()), 0o600); r.stage.Failed(err) {
		os.RemoveAll(dir)
		return nil
	}
	return r.stage.Lend(exec.Command(words[0], append(words[1:], path)...), func(err error) tea.Msg {
		defer os.RemoveAll(dir)
		var body []byte
		if err != nil {
			err = fmt.Errorf("%s could not be run: %w", editor, err)
		} else {
			body, err = os.ReadFile(path)
		}
		return room.Answer{Do: func() tea.Cmd {
			if r.stage.Failed(err) {
				return nil
			}
			r.text.Replace(string(body), r.text.Line())
			return r.try()
		}}
	})
}
