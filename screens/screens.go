package screens

import "dimlantern/service"

type Options struct {
	Lantern           service.Lantern
	Name, User, Where string
	Demo              bool
}

func Run(o Options) error { return nil }
