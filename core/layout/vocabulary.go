package layout

// Word is a name of the shared vocabulary of fields, and what it stands for.
type Word struct{ Name, Means string }

// Words are the names that layouts should give their fields where they fit, so that
// rules of one kind of machine fit another. The list is that of docs/fields.md.
var Words = []Word{
	{"at", "when it was written, as it stands there"}, {"text", "what it says, for people"},
	{"host", "the machine that it speaks of, or that wrote it"},
	{"level", "how bad its writer thinks it is: debug to emergency"}, {"program", "the program that wrote it"},
	{"pid", "the number of its process"},
	{"thread", "the thread, the worker or the unit in the program"},
	{"unit", "the service that the program belongs to"}, {"facility", "the part of a system, as syslog has it"},
	{"msgid", "the kind of message, as syslog has it"}, {"event", "the identifier of an event"},
	{"provider", "who defines the event"}, {"channel", "the channel of the event"},
	{"record", "its number in its log"}, {"category", "the kind of event"}, {"account", "the user that it is about"},
	{"client", "the address that a request came from"},
	{"server", "the address that a request went to"}, {"port", "a port"}, {"method", "what a request wants done"},
	{"path", "what a request is about, without its question"},
	{"query", "what stands behind the ? of a request"}, {"protocol", "the protocol and its version"},
	{"status", "the number of the answer"}, {"bytes", "how many bytes were sent"},
	{"took", "how long it took"}, {"referrer", "where a request was led from"}, {"agent", "the program that asked"},
	{"session", "what belongs together"}, {"request-id", "which request it was"},
	{"job", "the piece of work"}, {"file", "a file"}, {"device", "a device"}, {"interface", "a network interface"},
	{"value", "the number that matters"}, {"size", "how big"}, {"count", "how many"},
	{"reason", "why"}, {"result", "how it ended"}, {"state", "what it is in now"}, {"version", "which version"},
	{"site", "where it stands"}, {"room", "the room or bay"},
	{"temperature", "a temperature"}, {"pressure", "a pressure"}, {"speed", "a speed"},
	{"code", "a code whose words stand in names"},
}

// Vocabulary are the names of the shared vocabulary.
func Vocabulary() []string {
	out := make([]string, len(Words))
	for i, w := range Words {
		out[i] = w.Name
	}
	return out
}
