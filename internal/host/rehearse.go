package host

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/host/inventory"
)

// What a host loads when it starts is found out by loading it, in a network namespace
// of its own where it decides about nobody's packets.

// rehearsal is what such a process is told.
type rehearsal struct {
	Outside    string         `json:"outside"`    // the network namespace that it must not be in
	Dir        string         `json:"dir"`        // of the machine
	Root       string         `json:"root"`       // below which its files lie
	Interfaces []string       `json:"interfaces"` // which rules may name
	Loads      []api.BootFile `json:"loads"`
	Kept       bool           `json:"kept"` // our unit loads what was kept
}

// rehearsed is what it answers.
type rehearsed struct {
	InForce api.InForce `json:"in_force"`
	Normal  string      `json:"normal"`
}

// ownNetwork is a link to the network namespace that a thread is in.
const ownNetwork = "/proc/thread-self/ns/net"

// rehearseTime is how long that may take.
const rehearseTime = 20 * time.Second

// Rehearse loads what a host loads when it starts, and tells what is in force then.
// The process is in a network namespace of its own.
func Rehearse(ctx context.Context, in io.Reader, out io.Writer) error {
	var r rehearsal
	if err := json.NewDecoder(in).Decode(&r); err != nil {
		return err
	}
	if inside, err := os.Readlink(ownNetwork); err != nil || r.Outside == "" || inside == r.Outside {
		return errors.New("this is for yfence report to begin, in a network namespace of its own: here it would change the rules that " +
			"are in force")
	}
	for _, name := range r.Interfaces {
		for _, kind := range []string{"dummy", "bridge"} { // not every kernel has both
			if _, err := inventory.Run(ctx, nil, "ip", "link", "add", name, "type", kind); err == nil {
				break // loopback is there
			}
		}
	}
	for _, l := range r.Loads {
		file := filepath.Join(r.Root, l.File)
		var err error
		if l.Kind == "nft-text" {
			_, err = inventory.Run(ctx, nil, "nft", "-f", file)
		} else {
			var text []byte
			if text, err = os.ReadFile(file); err == nil {
				_, err = inventory.Run(ctx, text, strings.TrimSuffix(l.Kind, "-save")+"-restore")
			}
		}
		if err != nil {
			return fmt.Errorf("what %s loads cannot be loaded: %w", l.By, err)
		}
	}
	if r.Kept {
		if _, _, err := (&Machine{Dir: r.Dir}).LoadKept(ctx); err != nil {
			return fmt.Errorf("what was kept cannot be loaded: %w", err)
		}
	}
	var d rehearsed
	var err error
	if d.InForce, _, err = inventory.InForce(ctx); err != nil {
		return err
	}
	c, err := apply.TakeCopy(ctx)
	if err != nil {
		return err
	}
	d.Normal = c.Normal()
	return json.NewEncoder(out).Encode(d)
}

// rehearse has a process of our own program do that. The error is why it cannot be told.
func (m *Machine) rehearse(ctx context.Context, root string, b *api.Boot) (d rehearsed, err error) {
	// The rules may ask for interfaces by name, so the network that they are tried in has those.
	r := rehearsal{Dir: m.Dir, Root: root, Loads: b.Loads, Kept: b.Ours}
	if r.Outside, err = os.Readlink(ownNetwork); err != nil {
		return d, err
	}
	links, err := net.Interfaces()
	if err != nil {
		return d, err
	}
	for _, l := range links {
		r.Interfaces = append(r.Interfaces, l.Name)
	}
	body, err := json.Marshal(r)
	if err != nil {
		return d, err
	}
	ctx, cancel := context.WithTimeout(ctx, rehearseTime)
	defer cancel()
	// In a process of its own: a thread cannot leave a network namespace for good.
	run := func(attr *syscall.SysProcAttr) error {
		cmd := exec.CommandContext(ctx, m.program(), "rehearse")
		var out, errOut bytes.Buffer
		cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = bytes.NewReader(body), &out, &errOut, attr
		cmd.WaitDelay = time.Second
		err := cmd.Run()
		var exit *exec.ExitError
		if errors.As(err, &exit) && errOut.Len() > 0 {
			return errors.New(strings.TrimPrefix(strings.TrimSpace(errOut.String()), "yfence: "))
		}
		if err != nil {
			return err
		}
		return json.Unmarshal(out.Bytes(), &d)
	}
	err = run(&syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET})
	if errors.Is(err, syscall.EPERM) { // without CAP_SYS_ADMIN, a user namespace gives the right to have one
		own := []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Geteuid(), Size: 1}}
		group := []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}}
		err = run(&syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNET, UidMappings: own, GidMappings: group})
	}
	return d, err
}

// practised is the last rehearsal, so that it is not made for each report.
type practised struct {
	Of   string    `json:"of"` // a sum of all that it loaded
	At   time.Time `json:"at"`
	What rehearsed `json:"what"`
}

// rehearseAgain is how long one counts: a file may ask for others in ways that we do not see.
const rehearseAgain = time.Hour

// included is a file that a file of nft asks for.
var included = regexp.MustCompile(`(?m)^\s*include\s+"([^"]+)"`)

// material is a sum of all that a rehearsal would load.
func (m *Machine) material(root string, b *api.Boot) string {
	kept, _ := os.ReadFile(m.Path("kept.json"))
	text := fmt.Sprint(b.Ours, inventory.Sum(kept))
	for _, l := range b.Loads {
		text += l.File + l.Hash
		conf, _ := os.ReadFile(filepath.Join(root, l.File))
		for _, inc := range included.FindAllSubmatch(conf, -1) {
			files, _ := filepath.Glob(string(inc[1])) // as nft looks for it
			for _, file := range files {
				more, _ := os.ReadFile(file)
				text += file + inventory.Sum(more)
			}
		}
	}
	return inventory.Sum([]byte(text))
}

// tellBoot says of what is loaded at the start whether it is what is in force now, and
// what it is where it is not.
func (m *Machine) tellBoot(ctx context.Context, root string, b *api.Boot) {
	if b.Unknown != "" || len(b.Loads) == 0 && !b.Ours {
		return
	}
	of := m.material(root, b)
	var last practised
	if m.ReadFile("rehearsed.json", &last) != nil || last.Of != of || time.Since(last.At) > rehearseAgain || time.Since(last.At) < 0 {
		d, err := m.rehearse(ctx, root, b)
		if err != nil {
			b.Unknown = err.Error()
			return
		}
		last = practised{of, time.Now(), d}
		_ = m.WriteFile("rehearsed.json", last) // else the next report does it again
	}
	d := last.What
	now, err := apply.TakeCopy(ctx)
	if err != nil {
		b.Unknown = err.Error()
		return
	}
	if b.Same = now.Normal() == d.Normal; !b.Same {
		b.InForce = &d.InForce
	}
}
