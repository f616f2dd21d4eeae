//go:build !unix

package screens

import tea "charm.land/bubbletea/v2"

// Run shows the screens on the terminal until the user leaves them.
func Run(o Options) error {
	_, err := tea.NewProgram(newModel(o)).Run()
	return err
}
