// What real connections showed of what a wave changed, and what could not be tried.
import type { Wave } from '../../api/waves'

export function Shown({ wave: w }: { wave: Wave }) {
  const proofs = w.proofs ?? []
  const left = w.left ?? []
  const untried = w.state === 'done' && !w.held && !w.skip_probes && w.hosts.length > 0
  if (proofs.length === 0 && left.length === 0 && !untried) return null
  return (
    <div className="grid gap-x-4 border-t border-line px-5 py-3 sm:grid-cols-[7rem_1fr]">
      <p className="text-sm font-medium text-faint">shown</p>
      <ul className="flex flex-col gap-1 text-sm">
        {proofs.map((p) => (
          <li key={p.statement}>
            <span className="font-medium">{p.statement}</span> <span className="text-faint">({p.change})</span>
            {p.passed && <span className="block text-good">passes: {p.passed}</span>}
            {p.refused && <span className="block text-good">is refused: {p.refused}</span>}
          </li>
        ))}
        {left.map((l) => (
          <li key={l} className="text-faint">
            not tried: {l}
          </li>
        ))}
        {untried && <li className="text-care">No connection was tried: nothing but the ways in shows that what is in force is as the policy says.</li>}
      </ul>
    </div>
  )
}

