import { Link } from 'react-router'

/** The place of a statement in the policy, as a link to it. */
export function Place({ at }: { at: string | undefined }) {
  const [file, line] = at?.split(':') ?? []
  if (!file || !line) return null
  return (
    <Link to={`/policy?file=${encodeURIComponent(file)}&line=${line}`} className="text-sm text-faint underline underline-offset-2 hover:text-ink">
      {file}, line {line}
    </Link>
  )
}
