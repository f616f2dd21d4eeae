package hosts

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
)

// Books say which rows of hosts have been taken, so that each is taken once. They belong to one goroutine, which
// keeps a host's Page in the same commit as what its rows say.
type Books struct {
	Pages map[string]*Page // by the host's identifier
}

// Page is how far the rows of a host have been taken.
type Page struct {
	Folder string `json:"folder"`
	Seq    int64  `json:"seq"`
	Sum    string `json:"sum"`
	Again  int64  `json:"again"` // how often rows were asked for once more
	Stale  bool   `json:"stale"` // rows are missing, and asked for
	Cloned string `json:"cloned,omitempty"`

	sums []string // of the newest rows, for the same number with other content
}

// keptSums is of how many rows the sums are known.
const keptSums = 256

// SumOf is the sum of a row's facts behind another row.
func SumOf(prev string, facts []byte) string {
	h := sha256.New()
	h.Write([]byte(prev))
	h.Write(facts)
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// Page is that of a host, which is made where there is none.
func (b *Books) Page(id string) *Page {
	if b.Pages == nil {
		b.Pages = map[string]*Page{}
	}
	p := b.Pages[id]
	if p == nil {
		p = &Page{}
		b.Pages[id] = p
	}
	return p
}

// Judge says whether a row is to be taken now, and notes it as taken then. Words say what is wrong with one that
// is dropped, where somebody should know.
func (b *Books) Judge(id string, r *Row, whole bool) (what Taken, take bool, words string) {
	p := b.Page(id)
	switch {
	case r.Seq < 1 || r.Folder == "" || r.Sum != SumOf(r.Prev, r.Facts):
		return Dropped, false, "sent a row that is not what its sum says"
	case p.Folder != r.Folder && (p.Folder == "" || whole):
		// The first, or one of a data folder that was begun anew and says all that is open.
		if r.Seq != 1 && !whole {
			return p.missing(), false, ""
		}
	case p.Folder != r.Folder && r.Seq == 1:
	case p.Folder != r.Folder:
		return p.missing(), false, ""
	case r.Seq <= p.Seq:
		if i := len(p.sums) - 1 - int(p.Seq-r.Seq); i >= 0 && p.sums[i] != r.Sum || r.Seq == p.Seq && r.Sum != p.Sum {
			return Dropped, false, p.clone(r)
		}
		return TakenWell, false, ""
	case whole:
	case r.Seq > p.Seq+1:
		return p.missing(), false, ""
	case r.Prev != p.Sum:
		return Dropped, false, p.clone(r)
	}
	p.Folder, p.Seq, p.Sum, p.Stale = r.Folder, r.Seq, r.Sum, false
	if p.sums = append(p.sums, r.Sum); len(p.sums) > keptSums {
		p.sums = append(p.sums[:0], p.sums[len(p.sums)-keptSums:]...)
	}
	return TakenWell, true, ""
}

// missing notes that rows have to be sent once more, of which each time is counted once.
func (p *Page) missing() Taken {
	if !p.Stale {
		p.Stale = true
		p.Again++
	}
	return TakeAgain
}

// clone notes that a number came with other content; it is told once.
func (p *Page) clone(r *Row) string {
	if p.Cloned != "" {
		return ""
	}
	p.Cloned = fmt.Sprintf("row %d came with other content than before", r.Seq)
	return p.Cloned +
		": has the machine been cloned with its key? Let one of the two join anew: dimlantern join --again"
}

// Encode is the page as it is kept.
func (p *Page) Encode() []byte {
	b, _ := json.Marshal(p)
	return b
}

// ReadPage reads what Encode wrote.
func ReadPage(b []byte) (*Page, error) {
	p := &Page{}
	err := json.Unmarshal(b, p)
	if p.Seq > 0 {
		p.sums = []string{p.Sum}
	}
	return p, err
}
