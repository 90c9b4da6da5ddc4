package packet

// A SenderKind is what a host knows the sender of a packet by, at the end that sends it: by
// the word that a policy and a dump's comments have for it.
type SenderKind string

// The kinds of senders. A unit is a service of the host's own (a control group of the second level).
const (
	ByUser    SenderKind = "user"
	ByUnit    SenderKind = "unit"
	ByProgram SenderKind = "program"
)

// Field is the field of a packet that senders of the kind are told by.
func (k SenderKind) Field() Field {
	switch k {
	case ByUser:
		return User
	case ByProgram:
		return Program
	}
	return Unit
}

// A Sender is one user, unit or program that sends, by its name.
type Sender struct {
	Kind SenderKind
	Name string
}

// String is the sender as people say it: "user backup".
func (s Sender) String() string { return string(s.Kind) + " " + s.Name }
