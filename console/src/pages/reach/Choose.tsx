// Which matrix: of a revision, or of an instant of the past.
import { useRevisions } from '../../api/policy'
import type { When } from '../../api/reach'

interface Does {
  label: string
  /** What nothing chosen means. */
  none: string
  when: When
  choose: (when: When) => void
}

const another = 'a time'

/** An instant as a field for dates and times writes it, in the reader's own time. */
function local(at: Date): string {
  const own = new Date(at.getTime() - at.getTimezoneOffset() * 60_000)
  return own.toISOString().slice(0, 16)
}

export function Choose({ label, none, when, choose }: Does) {
  const revisions = useRevisions().data?.revisions ?? []
  const timed = when !== '' && !/^\d+$/.test(when)
  return (
    <span className="flex items-center gap-1.5 text-sm text-faint">
      <label className="flex items-center gap-1.5">
        {label}
        <select
          value={timed ? another : when}
          onChange={(event) => {
            choose(event.target.value === another ? local(new Date()) : event.target.value)
          }}
          className="rounded-plank border border-line bg-board px-2 py-1 text-ink"
        >
          <option value="">{none}</option>
          <option value={another}>a time …</option>
          {revisions.map((r) => (
            <option key={r.number} value={String(r.number)}>
              revision {r.number}
            </option>
          ))}
        </select>
      </label>
      {timed && (
        <input
          type="datetime-local"
          aria-label={`${label}: which time`}
          value={when}
          max={local(new Date())}
          onChange={(event) => {
            choose(event.target.value)
          }}
          className="rounded-plank border border-line bg-board px-2 py-1 text-ink"
        />
      )}
    </span>
  )
}
