package inventory

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Sum is the SHA-256 of a text, in hexadecimal.
func Sum(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

// nfnlgrpNFTables is the group of netlink messages about nf_tables:
// include/uapi/linux/netfilter/nfnetlink.h.
const nfnlgrpNFTables = 7

// The netlink groups that are listened to, as bits: rules of nf_tables; addresses of
// both families (rtnetlink(7)).
const (
	RuleGroups    = 1 << (nfnlgrpNFTables - 1)
	AddressGroups = unix.RTMGRP_IPV4_IFADDR | unix.RTMGRP_IPV6_IFADDR
)

// Changes tells when the kernel says that something of a netlink protocol's groups
// changed, until ctx ends. What changed is not read: the report tells it.
func Changes(ctx context.Context, protocol int, groups uint32, changed chan<- struct{}) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, protocol)
	if err != nil {
		return err
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: groups}); err != nil {
		_ = unix.Close(fd)
		return err
	}
	go func() {
		defer func() { _ = unix.Close(fd) }()
		b := make([]byte, 1<<16)
		poll := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		for ctx.Err() == nil {
			if n, err := unix.Poll(poll, 5000); err != nil && !errors.Is(err, unix.EINTR) {
				return
			} else if n <= 0 {
				continue
			}
			// ENOBUFS says that messages were lost: it changed all the more.
			if _, _, err := unix.Recvfrom(fd, b, unix.MSG_DONTWAIT); err != nil && !errors.Is(err, unix.ENOBUFS) {
				if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) {
					continue
				}
				return
			}
			select {
			case changed <- struct{}{}:
			default: // somebody knows already
			}
		}
	}()
	return nil
}

// Quiet is a sum over what raises no event when it changes: the tables of legacy
// iptables, and sets of ipset. "" where there is neither.
func Quiet(ctx context.Context) string {
	text := ""
	for _, family := range []string{"ip", "ip6"} {
		names, _ := os.ReadFile("/proc/thread-self/net/" + family + "_tables_names")
		if len(strings.TrimSpace(string(names))) == 0 {
			continue
		}
		if out, err := Run(ctx, nil, family+"tables-legacy-save"); err == nil {
			text += passing.ReplaceAllString(string(out), "$1")
		}
	}
	if _, err := os.Stat("/sys/module/ip_set"); err == nil {
		if _, err := exec.LookPath("ipset"); err == nil {
			if out, err := Run(ctx, nil, "ipset", "save"); err == nil {
				text += string(out)
			}
		}
	}
	if text == "" {
		return ""
	}
	return Sum([]byte(text))
}

// Settling is how long no further change must come before changes are reported: who
// loads rules line by line raises many events.
const Settling = 300 * time.Millisecond
