// What can be said to a wave now: go on, stop, roll back.
import { useMay } from '../../api/session'
import { useTellWave, type Wave } from '../../api/waves'
import { counted } from '../../components/basics'
import { Deed } from '../../components/Deed'

export function Words({ wave: w }: { wave: Wave }) {
  const may = useMay('settle')
  const tell = useTellWave(w.number)
  if (!may) return null
  const kept = w.hosts.filter((h) => h.phase === 'kept').length || (w.counts?.kept ?? 0)
  const open = w.state === 'running' || w.state === 'waiting'
  return (
    <span className="no-print ml-auto flex gap-2">
      {w.state === 'waiting' && (
        <Deed
          name="Go on"
          look="main"
          consequence={
            <p>
              Step {w.step + 1} of {w.steps} begins. Undo: stop the wave.
            </p>
          }
          run={() => tell.mutateAsync({ word: 'go-on', why: '' })}
        />
      )}
      {open && <Deed name="Stop" look="bad" reason="asked" consequence={<p>No more hosts are asked. Changes that are not kept yet are undone; what is kept stays, and can be put back afterwards.</p>} run={(why) => tell.mutateAsync({ word: 'stop', why })} />}
      {!open && kept > 0 && (
        <Deed
          name="Roll back"
          consequence={
            <p>
              A new wave gives {counted(kept, 'host')} the rules that were in force before wave {w.number}. Each host keeps them only if a new connection to it succeeds.
            </p>
          }
          run={() => tell.mutateAsync({ word: 'return', why: '' })}
        />
      )}
    </span>
  )
}

