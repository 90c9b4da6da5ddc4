// The record: who did what, when, and why.
import { useMemo, type ChangeEvent } from 'react'
import { Link, useSearchParams } from 'react-router'

import { deeds } from '../api/states.gen'
import { useRecord, type EntriesWanted, type Entry } from '../api/record'
import { Failure, Heading, Loading, Wide, count, counted } from '../components/basics'
import { AsCommand, Button } from '../components/Button'
import { Proof } from './record/Proof'

const fields: { key: keyof EntriesWanted; label: string; choices?: [string, string][] }[] = [
  { key: 'by', label: 'who' },
  { key: 'deed', label: 'did', choices: Object.entries(deeds) },
  { key: 'on', label: 'on' },
]

const field = 'w-44 rounded-plank border border-line bg-board px-2 py-1 text-ink'

export default function RecordPage() {
  const [params, setParams] = useSearchParams()
  const wanted = useMemo(() => ({ by: params.get('by') ?? '', deed: params.get('deed') ?? '', on: params.get('on') ?? '' }), [params])
  const record = useRecord(wanted)
  const change = (key: keyof EntriesWanted) => (event: ChangeEvent<HTMLInputElement | HTMLSelectElement>) => {
    const next = new URLSearchParams(params)
    if (event.target.value === '') next.delete(key)
    else next.set(key, event.target.value)
    setParams(next, { replace: true })
  }
  const flags = fields.filter(({ key }) => wanted[key] !== '').map(({ key }) => ` --${key} '${wanted[key]}'`)
  return (
    <>
      <Heading title="Record">
        {record.data && <span className="text-faint">{counted(record.data.pages[0]?.size ?? 0, 'entry', 'entries')}</span>}
        <span className="ml-auto flex flex-wrap gap-2">
          <AsCommand command={`yfence record${flags.join('')}`} />
          <AsCommand command="yfence record verify" />
        </span>
      </Heading>
      <Proof />
      <div className="mb-3 flex flex-wrap gap-3 text-sm">
        {fields.map(({ key, label, choices }) => (
          <label key={key} className="flex items-center gap-1.5 text-faint">
            {label}
            {choices ? (
              <select value={wanted[key]} onChange={change(key)} className={field}>
                <option value="">anything</option>
                {choices.map(([deed, said]) => (
                  <option key={deed} value={deed}>
                    {said} ({deed})
                  </option>
                ))}
              </select>
            ) : (
              <input value={wanted[key]} onChange={change(key)} className={field} />
            )}
          </label>
        ))}
      </div>
      {record.isPending && <Loading what="the record" />}
      {record.error && <Failure error={record.error} />}
      {record.data && (
        <Wide name="Entries" className="rounded-board border border-line bg-board">
          <table className="w-full text-left">
            <thead className="border-b border-line bg-sunk text-sm text-faint">
              <tr>
                {['Entry', 'When', 'Who', 'Did', 'On', 'Why'].map((h) => (
                  <th key={h} scope="col" className="px-3 py-1.5 font-medium">
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {record.data.pages
                .flatMap((p) => p.entries)
                .map((e) => (
                  <Row key={e.number} entry={e} />
                ))}
            </tbody>
          </table>
          {record.data.pages[0]?.entries.length === 0 && <p className="p-6 text-center text-faint">No entry is like that.</p>}
        </Wide>
      )}
      {record.hasNextPage && (
        <p className="mt-3 text-center">
          <Button disabled={record.isFetchingNextPage} onClick={() => void record.fetchNextPage()}>
            Show earlier ones
          </Button>
        </p>
      )}
    </>
  )
}

/** Where what a deed was done to is looked at. */
function placeOf(on: string): string | undefined {
  const [kind, name] = on.split(' ')
  if (kind === 'revision') return `/policy?revision=${name ?? ''}`
  if (kind === 'proposal') return `/proposals/${name ?? ''}`
  if (kind === 'wave') return `/waves#wave-${name ?? ''}`
  return name === undefined && /-\d/.test(on) ? `/hosts/${on}` : undefined
}

function Row({ entry: e }: { entry: Entry }) {
  const place = placeOf(e.on)
  const more = Object.entries(e.with ?? {})
    .map(([key, value]) => `${key}: ${typeof value === 'string' ? value : JSON.stringify(value)}`)
    .join('; ')
  return (
    <tr id={`entry-${String(e.number)}`} className="border-b border-line align-baseline last:border-0 hover:bg-sunk">
      <td className="px-3 py-1.5 tabular-nums">{count(e.number)}</td>
      <td className="px-3 py-1.5 whitespace-nowrap">
        <time dateTime={e.at}>{new Date(e.at).toLocaleString()}</time>
      </td>
      <td className="px-3 py-1.5" title={[e.by.sign_in, e.by.from].filter(Boolean).join(', from ')}>
        {e.by.name} <span className="text-sm text-faint">{e.by.kind}</span>
      </td>
      <td className="px-3 py-1.5 whitespace-nowrap" title={e.deed}>
        {deeds[e.deed] ?? e.deed}
      </td>
      <td className="px-3 py-1.5">
        {place === undefined ? (
          e.on
        ) : (
          <Link to={place} className="underline-offset-2 hover:underline">
            {e.on}
          </Link>
        )}
      </td>
      <td className="max-w-md px-3 py-1.5">
        {e.why}
        {more !== '' && <span className="block truncate text-sm text-faint" title={more}>{more}</span>}
      </td>
    </tr>
  )
}
