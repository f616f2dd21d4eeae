package service

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"dimlantern/api"
	"dimlantern/core/lang"
)

// Desk is where the service is asked, by its own screens and over its socket alike.
func (s *Service) Desk() *api.Desk {
	d := api.NewDesk()
	api.AskView.Answer(d, s.query.View)
	api.AskDetail.Answer(d, s.query.Detail)
	api.AskSources.Answer(d, s.query.Sources)
	api.AskNews.Answer(d, s.window.News)
	api.AskRules.Answer(d, s.query.Rules)
	api.AskEntries.Answer(d, s.query.Entries)
	api.AskFind.Answer(d, s.query.Find)
	api.AskWhy.Answer(d, s.bench.Why)
	api.AskCurves.Answer(d, s.query.Curve)
	api.AskTurn.Answer(d, s.query.Turn)
	api.AskHushes.Answer(d, s.query.Hushes)
	api.AskContacts.Answer(d, s.query.Contacts)
	api.DoTest.Answer(d, s.outbox.Test)
	api.AskStatus.Answer(d, s.query.Status)
	api.AskShift.Answer(d, s.query.Handover)
	api.AskPast.Answer(d, s.query.Past)
	api.AskLedger.Answer(d, s.ledger.Ask)
	api.AskInside.Answer(d, s.ledger.Inside)
	api.AskOut.Answer(d, s.ledger.Out)
	api.EditAsk.Answer(d, s.ledger.Edit)
	api.RuleOfAsk.Answer(d, s.ledger.Rule)
	api.AskReports.Answer(d, s.reports.Reports)
	api.DoReport.Answer(d, s.reports.Do)
	api.AskDeliveries.Answer(d, s.Deliveries)
	api.AskMeasures.Answer(d, s.Measures)
	api.AskKeep.Answer(d, s.query.Keep)
	api.TryText.Answer(d, s.bench.Bench)
	api.TryOthers.Answer(d, s.bench.Others)
	api.TryTests.Answer(d, s.bench.Tests)
	api.Propose.Answer(d, s.bench.Propose)
	api.MarkEntries.Answer(d, s.bench.Mark)
	api.OpenText.Answer(d, s.bench.BenchOpen)
	api.NewText.Answer(d, s.bench.BenchNew)
	api.KeepDrafts.Answer(d, s.Drafts)
	api.WriteText.Answer(d, s.bench.BenchWrite)
	api.DoPut.Answer(d, s.bench.Put)
	api.DoAct.Answer(d, s.Act)
	api.DoClear.Answer(d, s.Clear)
	api.DoApply.Answer(d, s.Apply)
	api.AskHosts.Answer(d, s.Hosts)
	api.DoInvite.Answer(d, s.Invite)
	api.DoHost.Answer(d, s.DoHost)
	api.DoRoll.Answer(d, s.Roll)
	api.AskRevisions.Answer(d, s.Revisions)
	api.AskOthers.Answer(d, s.AskOthers)
	api.AskEffective.Answer(d, s.Effective)
	api.AskHere.Answer(d, s.bench.Here)
	api.DoBring.Answer(d, s.bench.Bring)
	api.DoBegin.Answer(d, s.bench.BeginRule)
	api.DoFields.Answer(d, s.bench.Fields)
	return d
}

// longestSocket is how long the path of a Unix socket may be, in bytes (unix(7): 108 with
// its end).
const longestSocket = 100

// socketPath is where a service listens: in its data folder, so that only the owner of the
// folder can reach it.
func socketPath(data string) string { return filepath.Join(data, "socket") }

// Serve answers on the local socket until the context ends.
func (s *Service) Serve(ctx context.Context) error {
	path := socketPath(s.o.Data)
	if len(path) > longestSocket {
		return fmt.Errorf("the name of the data folder %s is too long for a socket; others cannot join this service",
			s.o.Data)
	}
	os.Remove(path) // the lock is ours, so whoever left it has gone
	l, err := net.Listen("unix", path)
	if err != nil {
		return err
	}
	s.door.Store(true)
	s.openDoor(s.window.Now().Settings)
	o := owners{l, s}
	return s.Desk().Serve(ctx, o, o.who)
}

// Join returns a client of the service of a data folder. Whether one is there shows when
// it is asked.
func Join(data string) *api.Client { return api.Join(socketPath(data)) }

// NotesFolder is the folder of the data in which stands which time lies where in files.
const NotesFolder = "notes"

// openDoor lets those reach the socket whom the settings let in: it is theirs to open, and what they may do is
// looked at with each question.
func (s *Service) openDoor(settings *lang.Settings) {
	if !s.door.Load() {
		return
	}
	socket, dir := os.FileMode(0o600), os.FileMode(0o700)
	if len(settings.Hosts.People) > 0 {
		socket, dir = 0o666, 0o711 // what else lies in the folder stays its owner's
	}
	os.Chmod(socketPath(s.o.Data), socket)
	if info, err := os.Stat(s.o.Data); err == nil && len(settings.Hosts.People) > 0 && info.Mode().Perm()&dir != dir {
		os.Chmod(s.o.Data, dir)
	}
}
