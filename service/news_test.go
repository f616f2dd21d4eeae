package service

import (
	"context"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who only listens sees each alert, without asking in between, and is left alone otherwise.
func TestNewsComesByItself(t *testing.T) {
	srv, _, _ := hook(t)
	p := stormy(t, srv.URL)
	runs(t, p, nil)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	known := api.NewsQuery{}
	until := func(open int) (answers int) {
		for {
			n, err := p.s.window.News(ctx, known)
			require.NoError(t, err)
			known, answers = api.NewsQuery(*n), answers+1
			v, err := p.s.query.View(ctx, api.ViewQuery{Column: time.Minute, Columns: 10})
			require.NoError(t, err)
			if len(v.Open) == open {
				return answers
			}
		}
	}
	for i := range 5 {
		p.say("pump %d: low", i)
		assert.LessOrEqual(t, until(i+1), 20, "it is no other word for polling")
	}

	for settled := false; !settled; { // what was told, and to whom, is news as well
		idle, done := context.WithTimeout(ctx, 3*time.Second)
		n, err := p.s.window.News(idle, known)
		done()
		if settled = err != nil; settled {
			assert.ErrorIs(t, err, context.DeadlineExceeded)
		} else {
			known = api.NewsQuery(*n)
		}
	}
	gone, leave := context.WithCancel(ctx)
	leave()
	_, err := p.s.window.News(gone, known)
	assert.ErrorIs(t, err, context.Canceled, "who leaves is not kept")
}
