package api

import "time"

// HereQuery asks what is found on the machine of the service.
type HereQuery struct{}

// Here is what is found on a machine, and which kits fit it.
type Here struct {
	Kits     []HereKit     `json:"kits"`
	Logs     []HereLog     `json:"logs"` // the fastest first
	Programs int           `json:"programs"`
	Journal  string        `json:"journal,omitempty"` // what of it is there, in words; "" is none
	Mend     string        `json:"mend,omitempty"`    // where it cannot be read
	Channels []string      `json:"channels,omitempty"`
	Cron     int           `json:"cron"` // tables of jobs that run by the clock
	Cut      string        `json:"cut,omitempty"`
	Took     time.Duration `json:"took"`
}

// HereKit is a kit that fits.
type HereKit struct {
	Name  string `json:"name"`
	Note  string `json:"note"`
	Why   string `json:"why"`  // what of it is here
	Runs  bool   `json:"runs"` // and at work
	Used  bool   `json:"used"` // the settings use it already
	Words string `json:"words,omitempty"`
	Mend  string `json:"mend,omitempty"`
}

// HereLog is a log that grows.
type HereLog struct {
	Path   string    `json:"path"`
	Size   int64     `json:"size"`
	Daily  int64     `json:"daily"` // bytes a day; 0 where that is not known
	Mod    time.Time `json:"mod"`
	Kit    string    `json:"kit,omitempty"`    // that would read it
	Source string    `json:"source,omitempty"` // that reads it
	Words  string    `json:"words,omitempty"`  // why it cannot be read
	Mend   string    `json:"mend,omitempty"`
}
