package check

// Mistakes are what the readers of policies and fleet files find, by the codes that they
// give. While there is one of these nothing else is looked at.
var Mistakes = []Check{
	{Code: "syntax", Doc: "Something is not written as the language has it.\n\nThe message says what was expected at this place, and the " +
		"hint how the whole statement\nis written. docs/language.md has all of them.\n"},
	{Code: "statement", Doc: "A line begins with no statement of the language.\n\nA statement begins with a word as allow, block, role " +
		"or network. What goes on from the line\nbefore is indented.\n"},
	{Code: "modifier", Doc: "A word behind a rule is no modifier, or one of another statement.\n\nModifiers stand behind the services, " +
		"as in: allow web: office -> charts : https  log\n"},
	{Code: "former", Doc: "A word of the language is another now.\n\nThe language was settled before anything was released; yfence tidy " +
		"--upgrade -w rewrites a\npolicy's files, and they mean the same.\n"},
	{Code: "name", Doc: "Something cannot be a name.\n\nA name is made of small letters, digits and hyphens, begins with a letter and " +
		"has at most 63\ncharacters. Words of the language are no names.\n"},
	{Code: "unnamed", Doc: "The policy has no name.\n\nOne of its files says it once, before anything else: policy saltmarsh language 1\n"},
	{Code: "language", Doc: "The policy is written in a language that this program does not read.\n\nyfence version says which it " +
		"reads.\n"},
	{Code: "not-utf8", Doc: "The file is no text in UTF-8.\n\nSave it as UTF-8: the byte at this place is none.\n"},
	{Code: "open-quote", Doc: "A text in quotes is not closed on its line.\n\nTexts stand on one line, between two \".\n"},
	{Code: "unknown", Doc: "Something is named that nobody declared.\n\nRoles, networks, segments and services are declared once, in any " +
		"file of the policy; hosts\nstand in the fleet file. Often it is misspelt.\n"},
	{Code: "twice", Doc: "Something is said or declared twice.\n\nA name belongs to one thing, a rule's name too: it says which rule is " +
		"meant.\n"},
	{Code: "cycle", Doc: "Something is made of itself.\n\nNetworks, segments, services and peers may name others, but not in a circle.\n"},
	{Code: "address", Doc: "Something is no address, prefix or range.\n\nAn address is written as 192.0.2.7 or 2001:db8::7, a prefix as " +
		"192.0.2.0/24, a range as\n192.0.2.10-192.0.2.19.\n"},
	{Code: "port", Doc: "Something is no port.\n\nPorts go from 0 to 65535; two with a hyphen between are a range: tcp 8443-8446.\n"},
	{Code: "number", Doc: "A number is not one that can stand here.\n\nThe message says from where to where it goes.\n"},
	{Code: "rate", Doc: "A rate is none that the kernel counts by.\n\nRates are whole numbers per second, minute, hour or day: 4 " +
		"per 1m.\n"},
	{Code: "time", Doc: "Something is no length of time.\n\nLengths are written as 30s, 5m, 12h or 7d.\n"},
	{Code: "date", Doc: "Something is no date or time.\n\nA day is written as 2027-03-31, an instant as 2027-03-31T12:00Z.\n"},
	{Code: "list", Doc: "A list of addresses cannot be read.\n\nIt is a file of the policy's folder with one address, prefix or range a " +
		"line.\n"},
	{Code: "ground", Doc: "A part of the ground is named that there is not, or not in this direction.\n\nyfence rules HOST prints the " +
		"ground with a host's rules.\n"},
	{Code: "no-end", Doc: "A statement names hosts of ours at neither end.\n\nNobody could carry it out: only hosts of the fleet have " +
		"rules of ours.\n"},
	{Code: "guard", Doc: "A guard says something that makes it less than sure.\n\nA guard is the way in. It takes no date and no off.\n"},
	{Code: "sender", Doc: "It is said who sends where the sending end is not ours.\n\nOnly the sending host knows users, units and " +
		"programs.\n"},
	{Code: "through", Doc: "`through` stands with what cannot go with it.\n\nWhat goes through hosts of ours is on more than one " +
		"segment, and what is encrypted from end to\nend shows them nothing.\n"},
	{Code: "join", Doc: "A join is about networks that share addresses.\n\nWhat goes from one of its networks to another must be clear: " +
		"join networks that have no address in\ncommon, or take away with except what is in both.\n"},
	{Code: "part", Doc: "A part of the policy says what it may not say, or cannot be one.\n\nA part is a folder with names of its own. " +
		"The policy's name, the ground, joins and parts are the\nwhole's to say; what a part is for it speaks of at one end of each of " +
		"its rules; and exceptions\nare made to its own blocks only. The folders of two parts do not lie in one another.\n"},
	{Code: "not-theirs", Doc: "Somebody changed what is others' to change.\n\nyfence check --by NAME tells it. Who may change what the " +
		"policy itself says, as it was before the\nchange: part NAME from \"FOLDER\" by NAME, …; policy NAME language 1 by NAME, …\n"},
	{Code: "over", Doc: "`over` names what is no block.\n\nAn allow is an exception to blocks that stand in its way.\n"},
	{Code: "redirect", Doc: "A redirect cannot be carried out as it is written.\n\nIt takes one port of one protocol and gives one of " +
		"the same protocol, at one address of a family.\n"},
	{Code: "policy-size", Doc: "The policy is larger than is read.\n\ndocs/limits.md says how large each part may be.\n"},
	{Code: "fleet-syntax", Doc: "The fleet file is not written as JSON, YAML or CSV is.\n\nIts ending tells which it is read as.\n"},
	{Code: "fleet-key", Doc: "The fleet file has a key that nobody reads, or lacks one.\n\ndocs/formats/ has all keys. Often it is " +
		"misspelt.\n"},
	{Code: "fleet-type", Doc: "Something in the fleet file is of another kind than it is to be.\n\nThe message says which was expected: " +
		"a text, a list, a yes or no.\n"},
	{Code: "fleet-name", Doc: "Something cannot be a host's name.\n\nHosts are named as in the domain name system: small letters, " +
		"digits, hyphens and dots.\n"},
	{Code: "fleet-role", Doc: "A host has a role that the policy does not declare, or none.\n\nDeclare it in the policy, or mend the " +
		"fleet file: often it is misspelt.\n"},
	{Code: "fleet-address", Doc: "Something in the fleet file is no address that a host can have.\n\nAddresses of interfaces have the " +
		"length of their network's prefix: 10.40.2.10/16.\n"},
	{Code: "fleet-interface", Doc: "Something cannot be the name of an interface.\n\nThe kernel's names have at most 15 characters: " +
		"letters, digits, and . _ : @ -\n"},
	{Code: "fleet-dialect", Doc: "A host's filter is none that this program writes, or there is nothing that protects it.\n\nyfence " +
		"rules --help lists the dialects. none is for hosts that only the groups of their instance protect.\n"},
	{Code: "fleet-segment", Doc: "The fleet file puts an interface on a segment that it cannot be on.\n\nIts addresses must lie in the " +
		"segment, and the policy must declare it.\n"},
	{Code: "fleet-twice", Doc: "The fleet file says something twice.\n\nNames and addresses belong to one host; a floating address may " +
		"stand with several.\n"},
	{Code: "cloud-limits", Doc: "The groups of an instance take more than its cloud can hold, or more than half of it.\n\nWhat a cloud " +
		"cannot hold is not put in force: the instance keeps the groups it has. With more\nthan half in use an instance cannot be in its " +
		"old and its new groups at once when they change;\nthey then change by and by, and not at all where that would leave a gap. " +
		"Fewer or wider\nrules take fewer groups. Only the service says this: it knows the clouds.\n"},
	{Code: "fleet-size", Doc: "The fleet file is larger than is read, or too deep.\n\ndocs/limits.md says how large each part may be.\n"},
}

// Codes are all codes that a problem can have, each with what it means.
func Codes() []Check { return append(append([]Check{}, Mistakes...), Checks...) }
