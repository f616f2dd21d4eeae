package hosts

import (
	"encoding/json"
	"time"

	"dimlantern/core/entry"
)

// SampleQuestion asks a host for a sample of what its logs have said, so that what is written at the centre can be
// tried on it.
type SampleQuestion struct {
	Sample int64         `json:"sample"` // at most so many bytes of it
	On     []string      `json:"on"`     // sources, of which it takes those that it has
	From   entry.Instant `json:"from"`
}

// SampleAnswer is such a sample: of each log the newest part.
type SampleAnswer struct {
	Logs []SentLog `json:"logs"`
	Cut  bool      `json:"cut,omitempty"` // something older was left out
}

// SentLog is what one log has said.
type SentLog struct {
	Source string        `json:"source"`
	Path   string        `json:"path"`
	Host   string        `json:"host"`
	Origin string        `json:"origin"`
	Near   entry.Instant `json:"near"` // when the log was changed last
	Header string        `json:"header,omitempty"`
	Skew   time.Duration `json:"skew,omitempty"`
	Text   []byte        `json:"text"` // its entries, as anybody may see them, compressed with S2
}

// AsksForSample tells whether what a centre asks is a SampleQuestion.
func AsksForSample(b []byte) bool {
	var q SampleQuestion
	return json.Unmarshal(b, &q) == nil && q.Sample > 0
}
