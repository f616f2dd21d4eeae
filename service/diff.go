package service

import "strings"

// LineDiff are the lines in which two texts differ, with one line around them; what went
// begins with -, what came with +.
func LineDiff(was, now string) []string {
	a, b := strings.Split(strings.TrimRight(was, "\n"), "\n"), strings.Split(strings.TrimRight(now, "\n"), "\n")
	if was == "" {
		a = nil
	}
	if now == "" {
		b = nil
	}
	if len(a)*len(b) > 4_000_000 {
		return []string{"  the file is too long to be compared here"}
	}
	long := make([][]int32, len(a)+1)
	for i := range long {
		long[i] = make([]int32, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if long[i][j] = max(long[i+1][j], long[i][j+1]); a[i] == b[j] {
				long[i][j] = long[i+1][j+1] + 1
			}
		}
	}
	var out []string
	same := ""
	changed := false
	for i, j := 0, 0; i < len(a) || j < len(b); {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			if changed {
				out = append(out, "  "+a[i])
			}
			same, changed = a[i], false
			i, j = i+1, j+1
			continue
		case !changed && same != "":
			out = append(out, "  "+same)
		}
		changed = true
		if j >= len(b) || i < len(a) && long[i+1][j] >= long[i][j+1] {
			out = append(out, "- "+a[i])
			i++
		} else {
			out = append(out, "+ "+b[j])
			j++
		}
		same = ""
	}
	return out
}
