package hosts

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"dimlantern/core/lang"
	"dimlantern/folder"

	"github.com/bmatcuk/doublestar/v4"
)

// FromCentre stands before the names of files that a centre has sent.
const FromCentre = lang.SentFile

// SentFrom tells whether a block at that place came from the centre.
func SentFrom(p lang.Pos) bool { return strings.HasPrefix(p.File, FromCentre) }

// Merge puts what the centre has sent before what is written on a host. Blocks of the host that the centre's stand
// before are put aside, all of them where the centre wants that; what its settings say of itself stays.
func Merge(local []folder.Text, r *Revision) (texts []folder.Text, aside []lang.Placed) {
	if r == nil {
		return local, nil
	}
	for _, t := range r.Texts {
		if !t.Table {
			t.Name = FromCentre + t.Name
		}
		texts = append(texts, t)
	}
	sent, _ := folder.Blocks(texts)
	has := map[string]bool{}
	for _, b := range sent {
		has[b.Kind+" "+b.Name] = true
	}
	kits := map[string]bool{}
	for _, t := range texts {
		if t.Kit != "" {
			kits[t.Kit] = true
		}
	}
	for _, t := range local {
		switch {
		case t.Kit != "" && (kits[t.Kit] || r.Nothing):
			continue
		case t.Kit == "" && !t.Table:
			body, gone := lang.Parse(t.Name, []byte(t.Body)).Without(func(kind, name string) bool {
				return r.Nothing || has[kind+" "+name]
			}, func(kit string) bool { return r.Nothing || kits[kit] })
			t.Body = body
			aside = append(aside, gone...)
		}
		texts = append(texts, t)
	}
	return texts, aside
}

// Limit lets sources that a centre has sent read what the host allows, and nothing else; it says what is beyond
// that. Deliveries to files and contacts with a command go likewise.
func Limit(s *lang.Settings) (beyond []string) {
	may := s.Hosts.May
	if may == nil {
		may = &lang.May{}
	}
	for _, src := range s.Sources {
		if !SentFrom(src.Pos) || src.Off {
			continue
		}
		asks := ""
		switch {
		case len(src.Files) > 0:
			src.Within = may.Read
			var files []string
			for _, g := range src.Files {
				if Allowed(may, g) {
					files = append(files, g)
				} else {
					beyond = append(beyond, fmt.Sprintf("source %s: %s is beyond what the centre may read here",
						src.Name, g))
				}
			}
			if src.Files = files; len(files) == 0 {
				src.Off = true
			}
			continue
		case src.Journal():
			asks = "journal"
		case len(src.Channels) > 0:
			asks = "channels"
		case len(src.Listen) > 0:
			asks = "listen"
		case src.Input:
			asks = "input"
		case len(src.Command) > 0:
			if !slices.Contains(may.Run, src.Command[0]) {
				beyond = append(beyond, fmt.Sprintf("source %s: the centre may not run %s here", src.Name,
					src.Command[0]))
				src.Off = true
			}
			continue
		}
		if !slices.Contains(may.Read, asks) {
			beyond = append(beyond, fmt.Sprintf("source %s: the centre may not read %s here", src.Name, asks))
			src.Off = true
		}
	}
	for _, l := range s.Layouts {
		l.Sent = SentFrom(l.Pos)
	}
	for _, r := range s.Rules {
		r.Feeds = r.AtCentre && SentFrom(r.Pos)
	}
	for _, d := range s.Delivers {
		if SentFrom(d.Pos) && d.To.Kind == "files" && !d.Off {
			beyond = append(beyond, fmt.Sprintf("delivery %s: the centre may not write files here", d.Name))
			d.Off = true
		}
	}
	return beyond
}

// Allowed tells whether some file of a glob may be read.
func Allowed(may *lang.May, glob string) bool {
	if slices.Contains(strings.Split(filepath.ToSlash(glob), "/"), "..") {
		return false // which leads elsewhere than its name says
	}
	base, pattern := doublestar.SplitPattern(filepath.ToSlash(glob))
	plain := !strings.ContainsAny(pattern, "*?[{")
	for _, g := range may.Read {
		if !strings.HasPrefix(g, "/") {
			continue
		}
		if ok, _ := doublestar.Match(g, glob); ok {
			return true
		}
		if plain {
			continue
		}
		// Some files of the one may be files of the other where one base lies in the other.
		root, _ := doublestar.SplitPattern(g)
		if within(root, base) || within(base, root) {
			return true
		}
	}
	return false
}

func within(root, path string) bool {
	return root == path || strings.HasPrefix(path, strings.TrimSuffix(root, "/")+"/")
}

// BlocksOf are the blocks that run of texts, with where each comes from, and those that were put aside; gone are
// those of the host that Merge put aside.
func BlocksOf(texts []folder.Text, gone []lang.Placed) []Block {
	out := []Block{}
	placed, asides := folder.Blocks(texts)
	from := func(p lang.Pos, kit string) string {
		switch {
		case kit != "":
			return "kit " + kit
		case SentFrom(p):
			return "the centre"
		}
		return "written here"
	}
	for _, b := range placed {
		if b.Kind != "settings" {
			out = append(out, Block{Kind: b.Kind, Name: b.Name, From: from(b.Pos, b.Kit)})
		}
	}
	for _, a := range asides {
		out = append(out, Block{Kind: a.Kind, Name: a.Name, From: from(a.Pos, a.Kit), Differs: a.Why, Aside: true})
	}
	for _, b := range gone {
		i := slices.IndexFunc(out, func(x Block) bool { return x.Kind == b.Kind && x.Name == b.Name && !x.Aside })
		if i >= 0 {
			out[i].Differs = "also written here: the centre's stands"
		} else {
			out = append(out, Block{Kind: b.Kind, Name: b.Name, From: "written here", Aside: true,
				Differs: "the centre's groups say: local nothing"})
		}
	}
	return out
}
