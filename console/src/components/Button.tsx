// Buttons: what is done on a page, and what is copied from it.
import { Check, Terminal } from 'lucide-react'
import { useState, type ButtonHTMLAttributes } from 'react'

type Look = 'main' | 'plain' | 'bad'

const looks: Record<Look, string> = {
  main: 'bg-fence text-fence-ink enabled:hover:brightness-105 font-semibold',
  plain: 'border border-line bg-board text-ink enabled:hover:bg-sunk font-medium',
  bad: 'border border-bad bg-bad-wash text-bad enabled:hover:brightness-95 font-semibold',
}

export function Button({ look = 'plain', small = false, className = '', ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { look?: Look; small?: boolean }) {
  return (
    <button
      type="button"
      data-action
      className={`inline-flex items-center gap-1.5 rounded-plank text-sm whitespace-nowrap disabled:opacity-50 ${small ? 'px-2 py-0.5' : 'px-3 py-1.5'} ${looks[look]} ${className}`}
      {...rest}
    />
  )
}

/** How to get by command what a page shows, to be copied. */
export function AsCommand({ command }: { command: string }) {
  const [copied, setCopied] = useState(false)
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(command)
      setCopied(true)
      setTimeout(() => {
        setCopied(false)
      }, 2000)
    } catch {
      setCopied(false) // without TLS a browser lets nobody copy; the text can be marked
    }
  }
  const Icon = copied ? Check : Terminal
  return (
    <span className="no-print inline-flex max-w-full min-w-0 items-center gap-1.5 rounded-plank border border-line bg-sunk py-0.5 pr-1 pl-2 text-sm">
      <code className="truncate font-mono text-[0.86em] text-faint">{command}</code>
      <button type="button" aria-label={`Copy the command ${command}`} title="Copy as command" className="rounded-plank p-1 text-faint hover:bg-board hover:text-ink" onClick={() => void copy()}>
        <Icon className="size-3.5" aria-hidden />
      </button>
      <span role="status" className="sr-only">
        {copied && 'copied'}
      </span>
    </span>
  )
}
