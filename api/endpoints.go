package api

// What can be asked.
var (
	// AskView: the state of the world at an instant.
	AskView = endpoint[ViewQuery, View]("/view")
	// AskDetail: what is known of one row of a view.
	AskDetail = endpoint[DetailQuery, Detail]("/detail")
	// AskSources: what is watched, at an instant.
	AskSources = endpoint[ViewQuery, SourcesView]("/sources")
	// AskNews answers once something is new, or nothing has been for a while: so nobody has
	// to ask again and again.
	AskNews = endpoint[NewsQuery, News]("/news")
	// AskRules: what the rules do, and what they cost.
	AskRules = endpoint[None, RulesView]("/rules")
	// AskEntries: the newest entries of an origin, up to an instant.
	AskEntries = endpoint[EntriesQuery, Entries]("/entries")
	// AskFind: entries that a person looks for, among all that there are.
	AskFind = endpoint[FindQuery, Found]("/find")
	// AskWhy: why an entry is something for rules or nothing, or how a rule stands for a key.
	AskWhy = endpoint[WhyQuery, Why]("/why")
	// AskCurves: the numbers over time that a rule compares for a key.
	AskCurves = endpoint[CurveQuery, Curves]("/curve")
	// AskTurn: when something happened last before an instant, or first behind it.
	AskTurn = endpoint[TurnQuery, Turn]("/turn")
	// AskHushes: all hushes, those of people and those of the settings.
	AskHushes = endpoint[None, HushList]("/hushes")
	// AskContacts: who is told, how, and how that goes.
	AskContacts = endpoint[None, ContactList]("/contacts")
	// AskStatus: how the service is.
	AskStatus = endpoint[None, Status]("/status")
	// AskShift: what happened in a stretch of time.
	AskShift = endpoint[ShiftQuery, Shift]("/handover")
	// AskHere: what is found on the machine, and which kits fit it.
	AskHere = endpoint[HereQuery, Here]("/here")
	// AskPast: the changes of the settings that were.
	AskPast = endpoint[PastQuery, PastPuts]("/past")
)

// What is asked of, and done to, the hosts that have joined.
var (
	// AskHosts: who reports, and how it stands with each, at an instant.
	AskHosts = endpoint[ViewQuery, HostsView]("/hosts")
	// DoInvite makes an invitation, DoHost renames a host, forgets it, or takes an invitation back.
	DoInvite = endpoint[InviteQuery, Invited]("/hosts/invite")
	DoHost   = endpoint[HostQuery, None]("/hosts/do")
	// DoRoll rolls the settings out to hosts, or says what that would do; AskRevisions lists what was rolled out.
	DoRoll       = endpoint[RollQuery, RollDone]("/hosts/roll")
	AskRevisions = endpoint[None, RevisionList]("/hosts/revisions")
	// AskOthers asks hosts a question of the ledger, for who answers it beside the service.
	AskOthers = endpoint[OthersQuery, OthersAnswers]("/hosts/ask")
	// AskEffective: what a host runs, block by block.
	AskEffective = endpoint[EffectiveQuery, Effective]("/hosts/effective")
)

// What is asked of what was logged.
var (
	// AskLedger: a question as it is typed, and its answer as far as it is known.
	AskLedger = endpoint[LedgerQuery, LedgerView]("/ledger")
	// AskInside: what is in a part of an answer.
	AskInside = endpoint[InsideQuery, Inside]("/ledger/inside")
	// AskOut: an answer in a form, such as a picture.
	AskOut = endpoint[LedgerOut, LedgerFile]("/ledger/out")
	// EditAsk changes the text of a question, or writes one about something that is shown elsewhere;
	// RuleOfAsk writes a rule that watches what one asks.
	EditAsk   = endpoint[LedgerEdit, LedgerText]("/ledger/edit")
	RuleOfAsk = endpoint[LedgerEdit, LedgerText]("/ledger/rule")
)

// What goes out to others.
var (
	// AskReports: the reports, and how they stand; DoReport gives a result, makes one, or sends one again.
	AskReports = endpoint[None, ReportList]("/reports")
	DoReport   = endpoint[ReportQuery, ReportDone]("/report")
	// AskDeliveries and AskMeasures: how they stand.
	AskDeliveries = endpoint[None, DeliveryList]("/deliveries")
	AskMeasures   = endpoint[None, MeasureList]("/measures")
	// AskKeep: what is kept, how long, and what that takes.
	AskKeep = endpoint[None, KeepList]("/keep")
)

// What is asked at the bench, where a rule is typed.
var (
	// TryText: what a text being typed means, and what its rule would have done.
	TryText = endpoint[BenchQuery, BenchView]("/bench")
	// TryOthers: what other numbers would give in the place of that at the cursor.
	TryOthers = endpoint[BenchQuery, BenchOthers]("/others")
	// TryTests: which tests pass, with the text being typed among the settings.
	TryTests = endpoint[BenchQuery, Put]("/tests")
	// Propose: what may end the problem of the rule being typed.
	Propose = endpoint[BenchQuery, Proposals]("/propose")
	// MarkEntries writes into a text what entries are for its rule.
	MarkEntries = endpoint[MarkQuery, Marked]("/mark")
	// KeepDrafts keeps what somebody has typed and not written, and gives it back.
	KeepDrafts = endpoint[DraftsQuery, Drafts]("/drafts")
	// OpenText gives a settings file to type in, NewText a rule that is not there yet.
	OpenText = endpoint[BenchFile, BenchFile]("/bench/open")
	NewText  = endpoint[BenchBegin, BenchFile]("/bench/new")
	// WriteText writes a settings file, if nobody else has since it was opened, and has it taken up
	// unless the settings say: apply by hand.
	WriteText = endpoint[WriteQuery, Written]("/bench/write")
)

// What can be told to be done.
var (
	// DoPut says what a change of the settings would do, and does it where that is asked for.
	DoPut = endpoint[PutQuery, Put]("/put")
	// DoAct does what a person does to an alert: take it, hand it over, let it go, note,
	// hush, unhush.
	DoAct = endpoint[ActQuery, ActDone]("/act")
	// DoClear ends an alert by hand.
	DoClear = endpoint[ClearQuery, None]("/clear")
	// DoTest tells a contact a test by each of its ways.
	DoTest = endpoint[TestQuery, Tested]("/test")
	// DoApply takes up changed settings now. It fails with what is wrong in them; the last
	// good ones go on then.
	DoApply = endpoint[None, None]("/apply")
	// DoBring proposes settings for a log that is not watched yet, DoBegin a rule about an
	// entry, DoFields a layout; each writes them where that is asked for.
	DoBring  = endpoint[BringQuery, Brought]("/bring")
	DoBegin  = endpoint[BeginQuery, Begun]("/begin")
	DoFields = endpoint[FieldsQuery, FieldsView]("/fields")
)
