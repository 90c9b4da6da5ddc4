package check

import (
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/source"
)

// senderOpen looks at the stance of each host that the allow is for; one that is open is told.
var senderOpen = Check{
	Code:     "sender-open",
	Severity: source.Warning,
	Doc: `An allow names who may send, on hosts where everybody may.

from user, unit and program narrow what leaves a host; where outbound is open the
host's other programs send the same anyway. Close outbound for the role.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || len(r.Senders) == 0 {
				continue
			}
			for _, h := range r.From.Hosts {
				if !p.pol.StanceOf(h, packet.Outbound).Closed {
					p.warn(r, "close outbound for its role: { outbound closed }",
						"the allow %q names who may send, and on %s outbound is open to all", r.Name, h.Name)
					break
				}
			}
		}
	},
}
