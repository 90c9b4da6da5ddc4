// The service's own keys, and what its database keeps.
import { useMay } from '../../api/session'
import { useKeys, useNewKey, useRetireKey, useStore } from '../../api/settings'
import { Board, Failure, Loading, Mono, count, counted } from '../../components/basics'
import { AsCommand } from '../../components/Button'
import { Deed } from '../../components/Deed'

export function ServiceParts() {
  return (
    <>
      <Keys />
      <Kept />
    </>
  )
}

function Keys() {
  const keys = useKeys()
  const make = useNewKey()
  const retire = useRetireKey()
  const may = useMay('tokens')
  return (
    <Board title="Keys that sign what hosts are asked">
      {keys.isPending && <Loading what="the keys" />}
      {keys.error && <Failure error={keys.error} />}
      <ol className="divide-y divide-line">
        {(keys.data?.keys ?? []).map((k, i) => (
          <li key={k} className="flex flex-wrap gap-x-3 px-4 py-2">
            <span className="break-all">
              <Mono>{k}</Mono>
            </span>
            <span className="text-sm text-faint">{i === 0 ? 'signs now' : 'is known, and signs when the one before is retired'}</span>
          </li>
        ))}
      </ol>
      {may && (
        <p className="flex gap-2 border-t border-line px-4 py-2.5">
          <Deed name="Make a key" consequence={<p>Hosts learn it the next time they come. It signs nothing until the one before it is retired.</p>} run={() => make.mutateAsync()} />
          {(keys.data?.keys.length ?? 0) > 1 && (
            <Deed name="Retire the first" look="bad" sure="retire" consequence={<p>The next key signs from now on. A host that has not come since that was made believes the service no longer, and must be enrolled again.</p>} run={() => retire.mutateAsync()} />
          )}
        </p>
      )}
    </Board>
  )
}

const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']

/** A size in bytes, as people read it. */
function size(bytes: number): string {
  let unit = 0
  while (bytes >= 1024 && unit < units.length - 1) {
    bytes /= 1024
    unit++
  }
  return `${count(Math.round(bytes * 10) / 10)} ${units[unit] ?? ''}`
}

function Kept() {
  const store = useStore()
  return (
    <Board
      title="What is kept"
      beside={
        <span className="ml-auto">
          <AsCommand command="yfence store show" />
        </span>
      }
    >
      {store.isPending && <Loading what="what is kept" />}
      {store.error && <Failure error={store.error} />}
      {store.data && (
        <ul className="divide-y divide-line">
          {store.data.parts.map((p) => (
            <li key={p.what} className="grid grid-cols-[1fr_6rem_7rem] gap-3 px-4 py-1.5">
              <span>
                {p.what} <span className="text-sm text-faint">{p.keeps}</span>
              </span>
              <span className="text-right tabular-nums">{size(p.bytes)}</span>
              <span className="text-right text-sm text-faint">{counted(p.rows, 'row')}</span>
            </li>
          ))}
        </ul>
      )}
    </Board>
  )
}
