package ledger

import (
	"fmt"
	"math"
	"slices"
	"strconv"

	"dimlantern/screens/paint"

	"github.com/dustin/go-humanize"
)

var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// drawWeek draws an answer by weekday and hour as a week: a row a day, a column an hour; false where it is
// none.
func (r *Room) drawWeek(c *paint.Canvas, top, bottom int, p paint.Palette) bool {
	v := r.view
	day, hour := slices.Index(v.Per, "weekday"), slices.Index(v.Per, "hour")
	if day < 0 || hour < 0 || len(v.Per) != 2 || len(v.Bounds) > 1 || bottom-top < 12 {
		return false
	}
	var week [7][24]float64
	most := 0.0
	for _, g := range v.Groups {
		if len(g.Key) != 2 || g.Values[r.column].Number == nil {
			continue
		}
		d := slices.Index(weekdays, g.Key[day])
		h, err := strconv.Atoi(g.Key[hour])
		if d < 0 || err != nil || h < 0 || h > 23 {
			return false // fields of the entries are called so
		}
		week[d][h] = *g.Values[r.column].Number
		most = math.Max(most, week[d][h])
	}
	wide := 5
	if c.W < 140 {
		wide = 2
	}
	rows := min((bottom-top-4)/7, 3)
	dim := base(p).With(p.Dim)
	c.Rule(0, top, 3, base(p).With(p.Rule), false)
	c.Cut(4, top, c.W-6, base(p).With(p.Strong).Strong(), v.Columns[r.column].Name+" by weekday and hour")
	x0, y := 10, top+1
	for h := 0; h < 24; h += 3 {
		c.Put(x0+h*wide, y, dim, fmt.Sprintf("%02d", h))
	}
	right := x0 + 24*wide + 2
	if v.Columns[r.column].Additive {
		c.Put(right, y, dim, "sum")
	}
	y++
	for d, name := range weekdays {
		c.Put(3, y+rows-1, base(p), name)
		sum := 0.0
		for h := range 24 {
			n := week[d][h]
			sum += n
			x := x0 + h*wide
			if n == 0 {
				c.Put(x, y+rows-1, base(p).With(p.Rule), "·")
				continue
			}
			level := max(int(math.Round(n/most*float64(8*rows))), 1)
			for row := range rows {
				if fill := min(max(level-8*row, 0), 8); fill > 0 {
					style := base(p).With(p.Tide)
					if n == most {
						style = base(p)
					}
					for k := range wide - 1 {
						c.Put(x+k, y+rows-1-row, style, eighths[fill])
					}
				}
			}
		}
		if v.Columns[r.column].Additive {
			c.Cut(right, y+rows-1, c.W-right, dim, humanize.Comma(int64(sum)))
		}
		y += rows
	}
	c.Cut(3, y+1, c.W-4, dim, "the most is "+number(most, v.Columns[r.column].Unit)+" in an hour of the week")
	return true
}
