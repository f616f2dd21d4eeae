package service

import (
	"context"
	"time"

	"dimlantern/api"
)

// How long a question for news is held back: for more entries, so that not each of them is
// told, and at most.
const (
	newsFlow = time.Second
	newsMost = 10 * time.Second
)

// publish tells those who wait for news. The caller holds the lock.
func (s *Service) publish() {
	if now := [2]int64{s.seq, s.flow}; now != s.newsOf {
		s.newsOf = now
		close(s.news)
		s.news = make(chan struct{})
	}
}

// News is part of Lantern.
func (s *Service) News(ctx context.Context, q api.NewsQuery) (*api.News, error) {
	most, flow := time.NewTimer(newsMost), time.NewTimer(newsFlow)
	defer most.Stop()
	defer flow.Stop()
	late := false // entries alone suffice by now
	for {
		s.mu.Lock()
		now, news := api.News{Seq: s.newsOf[0], Flow: s.newsOf[1]}, s.news
		s.mu.Unlock()
		if now.Seq != q.Seq || late && now.Flow != q.Flow {
			return &now, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-most.C:
			return &now, nil
		case <-flow.C:
			late = true
		case <-news:
		}
	}
}
