package inventory

import (
	"fmt"
	"strings"
)

// AttendUnit is the unit that attends on a host.
const AttendUnit = "yfence-attend.service"

// Units are the systemd units of a host, by name: one attends, the other puts in force
// what was kept before the network is up. Ours comes after those of distributions that
// flush all rules, and again whenever one of them is started anew.
func Units(program, state string) map[string]string {
	others := make([]string, 0, len(loaders))
	for _, l := range loaders {
		others = append(others, l.unit)
	}
	list := strings.Join(others, " ")
	folder := "ReadWritePaths=" + state
	if below, ok := strings.CutPrefix(state, "/var/lib/"); ok { // then systemd makes it
		folder = "StateDirectory=" + below + "\nStateDirectoryMode=0700"
	}
	return map[string]string{
		AttendUnit: fmt.Sprintf(`[Unit]
Description=Yellow Fence: report, and do what the service asks
Wants=network-online.target
After=network-online.target %[3]s

[Service]
ExecStart=%[1]s attend --state %[2]s
Restart=always
RestartSec=5s
# A change that waits for its keep has a process of its own, which must outlive this one.
KillMode=process
CapabilityBoundingSet=CAP_NET_ADMIN CAP_NET_RAW CAP_NET_BIND_SERVICE CAP_DAC_READ_SEARCH CAP_SYS_PTRACE CAP_SYS_RESOURCE CAP_IPC_LOCK
NoNewPrivileges=yes
ProtectSystem=strict
%[4]s
ReadWritePaths=/run
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelTunables=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
# What is loaded at the start is rehearsed in a network of its own.
RestrictNamespaces=user net
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
SystemCallArchitectures=native
UMask=0077

[Install]
WantedBy=multi-user.target
`, program, state, BootUnit, folder),
		BootUnit: fmt.Sprintf(`[Unit]
Description=Yellow Fence: put in force what was kept
DefaultDependencies=no
Wants=network-pre.target
Before=network-pre.target shutdown.target
After=local-fs.target systemd-modules-load.service %[3]s
Conflicts=shutdown.target
# Whoever starts or reloads one of these flushes all rules, ours too.
PartOf=%[3]s
ReloadPropagatedFrom=%[3]s
ConditionPathExists=%[2]s/kept.json

[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=%[1]s boot --state %[2]s
ExecReload=%[1]s boot --state %[2]s

[Install]
WantedBy=sysinit.target %[3]s
`, program, state, list),
	}
}
