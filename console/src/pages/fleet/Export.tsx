// The hosts that are asked for, as a table for other programs.
import { Download } from 'lucide-react'
import { useState } from 'react'

import { messageOf } from '../../api/client'
import { allHosts, type Wanted } from '../../api/fleet'
import { Button } from '../../components/Button'
import { save, table } from '../../components/save'

export function Export({ wanted }: { wanted: Wanted }) {
  const [busy, setBusy] = useState(false)
  const [failed, setFailed] = useState('')
  const run = async () => {
    setBusy(true)
    setFailed('')
    try {
      const hosts = await allHosts(wanted)
      const head = ['host', 'roles', 'state', 'why', 'findings', 'cosmetic', 'revision in force', 'last report', 'addresses']
      const rows = hosts.map((h) => [h.name, (h.roles ?? []).join(' '), h.state, h.why, h.findings, h.cosmetic, h.in_force, h.heard_at, (h.interfaces ?? []).flatMap((i) => i.addresses).join(' ')])
      save('fleet.csv', 'text/csv', table([head, ...rows]))
    } catch (error) {
      setFailed(messageOf(error))
    } finally {
      setBusy(false)
    }
  }
  return (
    <>
      <Button disabled={busy} onClick={() => void run()} title="Save the hosts below as CSV">
        <Download className="size-4" aria-hidden /> {busy ? 'Reading …' : 'Export'}
      </Button>
      {failed !== '' && (
        <span role="alert" className="text-sm text-bad">
          The fleet was not exported: {failed}
        </span>
      )}
    </>
  )
}
