// How the fleet stood over the last days, and what it refused.
import { AxisBottom, AxisLeft } from '@visx/axis'
import { scaleBand, scaleLinear, scaleTime } from '@visx/scale'
import { AreaStack, Bar } from '@visx/shape'
import type { ReactNode } from 'react'

import { useHistory } from '../api/fleet'
import type { Schemas } from '../api/client'
import { stateNotes } from '../api/states.gen'
import { Board, Failure, Loading, count } from './basics'
import { useWidth } from './width'

const height = 150
const edge = { top: 8, right: 12, bottom: 24, left: 44 }
const week = 7 * 24 * 3600

export default function Plots() {
  const history = useHistory(week)
  if (history.isPending) return <Loading what="the last days" />
  if (history.error) return <Failure error={history.error} />
  return (
    <div className="grid gap-5 lg:grid-cols-2">
      <Board title="Not in step, over the last days">
        {history.data.stood.length < 2 ? (
          <p className="p-4 text-sm text-faint">Not enough data yet: the fleet's state is saved every ten minutes.</p>
        ) : (
          <Sized draw={(width) => <Stood stood={history.data.stood} width={width} />} />
        )}
      </Board>
      <Board title="Refused, by day">
        {history.data.refused.length === 0 ? (
          <p className="p-4 text-sm text-faint">No host has reported refused packets.</p>
        ) : (
          <Sized draw={(width) => <Refused days={history.data.refused} width={width} />} />
        )}
      </Board>
    </div>
  )
}

/** Draws something as wide as there is room. */
function Sized({ draw }: { draw: (width: number) => ReactNode }) {
  const { box, width } = useWidth()
  return (
    <div ref={box} className="p-2">
      {width > 0 && draw(width)}
    </div>
  )
}

const tones = ['bad', 'care', 'plain'] as const
const fills = { bad: 'var(--bad)', care: 'var(--care)', plain: 'var(--line)' }
const called = { bad: 'somebody has to act', care: 'somebody should look', plain: 'nothing is known' }
const ticks = { fill: 'var(--faint)', fontSize: 12 }

type Sums = { at: Date } & Record<(typeof tones)[number], number>

function sums(s: Schemas['StoodAt']): Sums {
  const out: Sums = { at: new Date(s.at), bad: 0, care: 0, plain: 0 }
  for (const n of stateNotes) if (n.tone !== 'good' && n.state !== 'others') out[n.tone] += s.counts[n.state] ?? 0
  return out
}

function Stood({ stood, width }: { stood: Schemas['StoodAt'][]; width: number }) {
  const data = stood.map(sums)
  const most = Math.max(1, ...data.map((d) => d.bad + d.care + d.plain))
  const x = scaleTime({ domain: [data[0]?.at ?? new Date(), data.at(-1)?.at ?? new Date()], range: [edge.left, width - edge.right] })
  const y = scaleLinear({ domain: [0, most], range: [height - edge.bottom, edge.top], nice: true })
  return (
    <figure>
      <svg width={width} height={height} role="img" aria-label="Hosts that are not in step, over the last days; the table below has the numbers">
        <AreaStack<Sums> data={data} keys={[...tones]} x={(d) => x(d.data.at)} y0={(d) => y(d[0])} y1={(d) => y(d[1])} color={(key) => fills[key as (typeof tones)[number]]} />
        <AxisLeft scale={y} left={edge.left} numTicks={4} tickFormat={(v) => count(Number(v))} stroke="var(--line)" tickStroke="var(--line)" tickLabelProps={ticks} />
        <AxisBottom scale={x} top={height - edge.bottom} numTicks={5} stroke="var(--line)" tickStroke="var(--line)" tickLabelProps={ticks} />
      </svg>
      <figcaption className="flex flex-wrap gap-x-4 px-2 text-sm text-faint">
        {tones.map((tone) => (
          <span key={tone} className="flex items-center gap-1.5">
            <span className="size-3" style={{ background: fills[tone] }} aria-hidden /> {called[tone]}
          </span>
        ))}
      </figcaption>
      <Numbers head={['When', ...tones.map((t) => called[t])]} rows={data.filter((_, i) => i % Math.ceil(data.length / 24) === 0).map((d) => [d.at.toLocaleString(), ...tones.map((t) => count(d[t]))])} />
    </figure>
  )
}

function Refused({ days, width }: { days: Schemas['DayCounts'][]; width: number }) {
  const x = scaleBand({ domain: days.map((d) => d.day), range: [edge.left, width - edge.right], padding: 0.25 })
  const y = scaleLinear({ domain: [0, Math.max(1, ...days.map((d) => d.packets))], range: [height - edge.bottom, edge.top], nice: true })
  const day = (d: string) => new Date(d).toLocaleDateString(undefined, { month: 'short', day: 'numeric', timeZone: 'UTC' })
  return (
    <figure>
      <svg width={width} height={height} role="img" aria-label="Packets refused on each day; the table below has the numbers">
        {days.map((d) => (
          <Bar key={d.day} x={x(d.day)} y={y(d.packets)} width={x.bandwidth()} height={height - edge.bottom - y(d.packets)} fill="var(--care)">
            <title>{`${day(d.day)}: ${count(d.packets)}`}</title>
          </Bar>
        ))}
        <AxisLeft scale={y} left={edge.left} numTicks={4} tickFormat={(v) => count(Number(v))} stroke="var(--line)" tickStroke="var(--line)" tickLabelProps={ticks} />
        <AxisBottom scale={x} top={height - edge.bottom} tickFormat={day} stroke="var(--line)" tickStroke="var(--line)" tickLabelProps={ticks} />
      </svg>
      <Numbers head={['Day', 'Packets refused']} rows={days.map((d) => [day(d.day), count(d.packets)])} />
    </figure>
  )
}

/** The numbers of a plot as a table. */
function Numbers({ head, rows }: { head: string[]; rows: string[][] }) {
  return (
    <details className="px-2 text-sm text-faint">
      <summary className="cursor-pointer">as a table</summary>
      <table className="mt-1 w-full text-left">
        <thead>
          <tr>
            {head.map((h) => (
              <th key={h} scope="col" className="font-medium">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r[0]} className="border-t border-line">
              {r.map((cell, i) => (
                <td key={i}>{cell}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  )
}
