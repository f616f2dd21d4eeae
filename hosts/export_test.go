package hosts

import (
	"testing"
	"time"
)

// SetTryAgain makes a centre try sooner to reach its brokers.
func SetTryAgain(t *testing.T, d time.Duration) {
	was := tryAgain
	tryAgain = d
	t.Cleanup(func() { tryAgain = was })
}

// SetPassFor makes passes hold otherwise for a test.
func SetPassFor(t *testing.T, d time.Duration) {
	was := passFor
	passFor, passHalf = d, d/2
	t.Cleanup(func() { passFor, passHalf = was, was/2 })
}
