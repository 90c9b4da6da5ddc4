// Traffic: what is refused, what is admitted and never used, and who speaks with whom.
import { Tabs } from 'radix-ui'
import { useSearchParams } from 'react-router'

import { Heading } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Tab } from '../components/Tab'
import { Refused } from './traffic/Refused'
import { Seen } from './traffic/Seen'
import { Unused } from './traffic/Unused'

const views = ['refused', 'unused', 'seen']
const spans: [string, number][] = [
  ['an hour', 3600],
  ['a day', 86400],
  ['a week', 7 * 86400],
  ['30 days', 30 * 86400],
]

export default function TrafficPage() {
  const [params, setParams] = useSearchParams()
  const asked = params.get('show') ?? ''
  const show = views.includes(asked) ? asked : 'refused'
  const since = Number(params.get('since')) || 7 * 86400
  const change = (key: string, value: string) => {
    const next = new URLSearchParams(params)
    next.set(key, value)
    setParams(next, { replace: true })
  }
  return (
    <>
      <Heading title="Traffic">
        <label className="flex items-center gap-1.5 text-sm text-faint">
          over
          <select
            value={String(since)}
            onChange={(event) => {
              change('since', event.target.value)
            }}
            className="rounded-plank border border-line bg-board px-2 py-1 text-ink"
          >
            {spans.map(([name, seconds]) => (
              <option key={seconds} value={String(seconds)}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <span className="ml-auto">
          <AsCommand command={`yfence traffic ${show} --since ${String(since / 3600)}h`} />
        </span>
      </Heading>
      <Tabs.Root
        value={show}
        onValueChange={(v) => {
          change('show', v)
        }}
      >
        <Tabs.List className="no-print mb-4 flex flex-wrap gap-1 border-b border-line" aria-label="What to see of the traffic">
          <Tab value="refused">Refused</Tab>
          <Tab value="unused">Admitted, and never used</Tab>
          <Tab value="seen">Connections seen</Tab>
        </Tabs.List>
        <Tabs.Content value="refused">
          <Refused since={since} />
        </Tabs.Content>
        <Tabs.Content value="unused">
          <Unused since={since} />
        </Tabs.Content>
        <Tabs.Content value="seen">
          <Seen since={since} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  )
}
