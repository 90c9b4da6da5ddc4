package policy_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/policy"
	"yellowfence.example/yfence/core/source"
)

const wards = `{"hosts": [
 {"name": "jump", "roles": ["jump"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.1/28"]}]},
 {"name": "records", "roles": ["records"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.2/28"]}]},
 {"name": "pacs", "roles": ["x-ray.pacs"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.3/28"]}]},
 {"name": "ecg", "roles": ["heart.ecg"], "interfaces": [{"name": "eth0", "addresses": ["203.0.113.4/28"]}]}]}`

const whole = `policy wards language 1 by ops
part x-ray from "teams/x-ray" for records by anna, "team x"
part heart from "teams/heart"
network office = 198.51.100.0/26
role jump
role records
block no-telnet: everywhere -> fleet : telnet
allow look: office -> x-ray.pacs : https
`

// parts resolves files by their names, and says each problem with its place.
func parts(t *testing.T, files map[string]string) (*policy.Policy, []string) {
	t.Helper()
	fl, problems := fleet.ReadJSON("fleet.json", []byte(wards))
	require.Empty(t, problems)
	var sources []policy.Source
	for name, text := range files {
		sources = append(sources, policy.Source{Name: name, Text: text})
	}
	in, problems := policy.Read(sources, fl)
	require.Empty(t, problems)
	pol, problems := policy.Resolve(in)
	source.SortProblems(problems)
	var said []string
	for _, p := range problems {
		said = append(said, fmt.Sprintf("%s:%d:%d+%d %s: %s", p.File, p.Line, p.Column, p.Width, p.Code, p.Message))
	}
	return pol, said
}

func TestPartsHaveNamesOfTheirOwn(t *testing.T) {
	pol, problems := parts(t, map[string]string{"a.fence": whole,
		"teams/x-ray/r.fence": "network office = 192.0.2.0/28\nservice dicom = tcp 104\nrole pacs\nallow see: office, records -> pacs : " +
			"dicom\nexpect see: only office, records -> pacs : dicom\n",
		"teams/heart/h.fence": "role ecg\nallow see: ecg, office -> x-ray.pacs : x-ray.dicom, https\n"})
	require.Empty(t, problems)
	for rule, want := range map[string]string{
		"look":      "allow look: office -> x-ray.pacs : https",
		"x-ray.see": "allow x-ray.see: x-ray.office, records -> x-ray.pacs : x-ray.dicom",
		"heart.see": "allow heart.see: heart.ecg, office -> x-ray.pacs : x-ray.dicom, https",
	} {
		require.Equal(t, want, pol.Rule(rule).String())
	}
	require.True(t, pol.Rule("x-ray.see").From.Addrs.Contains(netip.MustParseAddr("192.0.2.1")), "its own office")
	require.False(t, pol.Rule("x-ray.see").From.Addrs.Contains(netip.MustParseAddr("198.51.100.1")), "and not the whole's")
	require.True(t, pol.Rule("heart.see").From.Addrs.Contains(netip.MustParseAddr("198.51.100.1")),
		"who has none of that name means the whole's")
	require.Equal(t, "x-ray.see", pol.Expects[0].Name)
}

func TestWhatPartsMayNotSay(t *testing.T) {
	for text, want := range map[string][]string{
		"role pacs\nallow a: office -> jump : ssh\n": {`teams/x-ray/r.fence:2:7+1 part: the allow ` +
			`"x-ray.a" speaks at no end of hosts of the part x-ray alone`},
		"role pacs\nallow a: office -> pacs, jump : ssh\n": {`teams/x-ray/r.fence:2:7+1 part: the allow ` +
			`"x-ray.a" speaks at no end of hosts of the part x-ray alone`},
		"role pacs\nallow a: pacs -> jump : ssh\nallow b: office -> records : ssh\n": nil,
		"role pacs\nallow a: office -> pacs : telnet  over no-telnet\n": {`teams/x-ray/r.fence:2:40+9 part: the ` +
			`block "no-telnet" is not the part x-ray's, and takes no exception from it`},
		"role pacs\nblock b: office -> pacs : ssh\nallow a: office -> pacs : ssh  over b\n": nil,
		"role pacs\nground { invalid off }\n": {`teams/x-ray/r.fence:2:1+6 part: the ` +
			`ground is the whole policy's to say, and not the part x-ray's`},
		"role pacs\njoin office, heart.desks\n": {`teams/x-ray/r.fence:2:1+4 part: a join is ` +
			`the whole policy's to say, and not the part x-ray's`},
		"role pacs\nleave l: jump : inbound via ctr0\n": {`teams/x-ray/r.fence:2:7+1 part: the leave ` +
			`"x-ray.l" speaks at no end of hosts of the part x-ray alone`},
		"role pacs\nrole pacs\n": {`teams/x-ray/r.fence:2:6+4 twice: ` +
			`"x-ray.pacs" is declared twice`},
		"role pacs\nallow a: pacz -> pacs : ssh\n": {`teams/x-ray/r.fence:2:10+4 unknown: no ` +
			`role, network or segment is named "pacz"`},
	} {
		_, problems := parts(t, map[string]string{"a.fence": whole, "teams/x-ray/r.fence": text,
			"teams/heart/h.fence": "role ecg\nnetwork desks = 192.0.2.0/28\n"})
		require.Equal(t, want, problems, text)
	}
	const heart = "role ecg\n"
	for before, want := range map[string][]string{
		`part out from "../x"`:        {`a.fence:3:15+6 part: "../x" is no folder of the policy's`},
		`part gone from "teams/gone"`: {`a.fence:3:16+12 part: the folder "teams/gone" holds no .fence file`},
		`part again from "teams/x-ray/inner"`: {`a.fence:3:17+19 part: the folders of "again" and "x-ray" lie in one another`,
			`a.fence:3:17+19 part: the folder "teams/x-ray/inner" holds no .fence file`},
		`part heart from "teams/heart" for nobo`: {`a.fence:3:35+4 unknown: no role is named "nobo"`},
	} {
		text := "policy wards language 1\npart x-ray from \"teams/x-ray\"\n" + before + "\nrole jump\nrole records\nrole heart.ecg\n"
		if before != `part heart from "teams/heart" for nobo` {
			text = text[:len(text)-len("role heart.ecg\n")] + "part heart from \"teams/heart\"\n"
		} else {
			text = text[:len(text)-len("role heart.ecg\n")]
		}
		_, problems := parts(t, map[string]string{"a.fence": text, "teams/x-ray/r.fence": "role pacs\n", "teams/heart/h.fence": heart})
		require.Equal(t, want, problems, before)
	}
}

// TestWhoMayChange: by what the files said before, so that nobody gives themselves a right.
func TestWhoMayChange(t *testing.T) {
	before := []policy.Source{{Name: "a.fence", Text: whole}, {Name: "teams/x-ray/r.fence", Text: "role pacs\n"},
		{Name: "teams/heart/h.fence", Text: "role ecg\n"}, {Name: "lists/l.txt", Text: "192.0.2.1\n"}}
	change := func(name, text string) (after []policy.Source) {
		for _, s := range before {
			if s.Name != name {
				after = append(after, s)
			}
		}
		if text != "" {
			after = append(after, policy.Source{Name: name, Text: text})
		}
		return after
	}
	for _, c := range []struct{ who, file, text, want string }{
		{"anna", "teams/x-ray/r.fence", "role pacs\nrole more\n", ""},
		{"team x", "teams/x-ray/new.fence", "role more\n", ""},
		{"ben", "teams/x-ray/r.fence", "role pacs\nrole more\n",
			"2 ben may not change teams/x-ray/r.fence, which is of the part x-ray | have it changed by anna or team x"},
		{"ben", "teams/x-ray/new.fence", "role more\n",
			"1 ben may not add teams/x-ray/new.fence, which is of the part x-ray | have it changed by anna or team x"},
		{"ben", "teams/x-ray/r.fence", "", "1 ben may not take away teams/x-ray/r.fence, which is of the part x-ray | have it changed by " +
			"anna or team x"},
		{"anna", "a.fence", whole + "role mine\n", "9 anna may not change a.fence, which is of no part | have it changed by ops"},
		{"anna", "a.fence", "policy wards language 1 by anna\n",
			"1 anna may not change a.fence, which is of no part | have it changed by ops"},
		{"anna", "lists/l.txt", "", "1 anna may not take away lists/l.txt, which is of no part | have it changed by ops"},
		{"ops", "teams/heart/h.fence", "role ecg\nrole more\n", ""},
		{"anna", "teams/heart/h.fence", "role ecg\nrole more\n",
			"2 anna may not change teams/heart/h.fence, which is of the part heart | have it changed by ops"},
		{"ops", "a.fence", whole, ""},
	} {
		got := ""
		for _, p := range policy.MayChange(before, change(c.file, c.text), c.who) {
			got += fmt.Sprintf("%d %s | %s", p.Line, p.Message, p.Hint)
		}
		require.Equal(t, c.want, got, "%s %s", c.who, c.file)
	}
}
