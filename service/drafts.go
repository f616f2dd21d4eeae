package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"dimlantern/api"
	"dimlantern/core/entry"
)

// metaDrafts is where drafts are kept, by person.
const metaDrafts = "drafts"

// Drafts keeps what somebody has typed and not written, and answers with all of it that is kept.
func (s *Service) Drafts(ctx context.Context, q api.DraftsQuery) (*api.Drafts, error) {
	out := &api.Drafts{List: []api.Draft{}}
	err := s.do(ctx, func() error {
		if s.drafts == nil {
			s.drafts = map[string][]api.Draft{}
			if b, err := s.store.Meta(metaDrafts); err != nil {
				return err
			} else if b != nil {
				json.Unmarshal(b, &s.drafts) // what cannot be read is not offered
			}
		}
		list, err := keptDrafts(s.drafts[q.Name()], q.Keep, entry.Of(time.Now()))
		if err != nil {
			return err
		}
		if s.drafts[q.Name()] = list; len(q.Keep) > 0 {
			b, err := json.Marshal(s.drafts)
			if err != nil {
				return err
			}
			s.batch.SetMeta(metaDrafts, b)
		}
		out.List = append(out.List, list...)
		return nil
	})
	return out, err
}

// keptDrafts are the drafts of a person with further ones.
func keptDrafts(list, keep []api.Draft, now entry.Instant) ([]api.Draft, error) {
	list = slices.Clone(list)
	for _, d := range keep {
		if n := len(d.Text) + len(d.Was); n > 2*api.LongestDraft {
			return nil, fmt.Errorf("%s is too long to be kept as a draft: %s; write it", d.Name,
				humanize.IBytes(uint64(n)))
		}
		list = slices.DeleteFunc(list, func(x api.Draft) bool { return x.Name == d.Name })
		if d.Text != "" {
			d.At = now
			list = append(list, d)
		}
	}
	return list[max(len(list)-api.MostDrafts, 0):], nil
}
