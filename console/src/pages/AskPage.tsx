// A question, and the path of what it asks about: each end that decides, and by what.
import { ArrowRight } from 'lucide-react'
import { useState } from 'react'
import { useSearchParams } from 'react-router'

import { useAnswer } from '../api/ask'
import { useOutline } from '../api/fleet'
import { Empty, Failure, Heading, Loading } from '../components/basics'
import { AsCommand, Button } from '../components/Button'
import { Draft, ruleFor } from '../components/Draft'
import { Answered } from './ask/Answered'

/** The parts of a question as one types it: SRC -> DST : SERVICE. */
function parts(question: string): [string, string, string] {
  const [from = '', rest = ''] = question.split('->')
  const at = rest.lastIndexOf(' : ')
  return [from.trim(), (at < 0 ? rest : rest.slice(0, at)).trim(), at < 0 ? '' : rest.slice(at + 3).trim()]
}

export default function AskPage() {
  const [params, setParams] = useSearchParams()
  const question = params.get('question') ?? ''
  const answer = useAnswer(question)
  return (
    <>
      <Heading title="Ask">
        <span className="ml-auto">{question !== '' && <AsCommand command={`yfence ask '${question}'`} />}</span>
      </Heading>
      <Question
        key={question}
        question={question}
        ask={(q) => {
          setParams({ question: q })
        }}
      />
      {question === '' && <Empty title="Who may reach what?">Name a sender, a receiver and a service: hosts, roles, networks, addresses or everywhere.</Empty>}
      {answer.isFetching && <Loading what="the answer" />}
      {answer.error && !answer.isFetching && <Failure error={answer.error} />}
      {answer.data && !answer.isFetching && (
        <>
          <Answered answer={answer.data} />
          {answer.data.verdict !== 'admitted' && <WouldAdmit question={question} />}
        </>
      )}
    </>
  )
}

/** The rule that would admit what was asked about, to be drafted. */
function WouldAdmit({ question }: { question: string }) {
  const [from, to, service] = parts(question)
  return (
    <section aria-label="A rule that would admit it" className="mt-5">
      <h2 className="mb-1 text-sm font-medium text-faint">a rule that would admit this traffic, unless a block refuses it</h2>
      <Draft rule={ruleFor(from, to, service)} />
    </section>
  )
}

function Question({ question, ask }: { question: string; ask: (question: string) => void }) {
  const [[from, to, service], set] = useState(parts(question))
  const outline = useOutline()
  const names = [...new Set((outline.data?.hosts ?? []).flatMap((h) => h.roles ?? []))]
  const hosts = (outline.data?.hosts ?? []).slice(0, 500).map((h) => h.name)
  const field = (label: string, value: string, list: string | undefined, change: (v: string) => void) => (
    <label className="flex min-w-40 flex-1 flex-col gap-1 text-sm font-medium">
      {label}
      <input
        value={value}
        list={list}
        required={!from.includes('->')}
        onChange={(event) => {
          change(event.target.value)
        }}
        className="rounded-plank border border-line bg-board px-3 py-1.5 font-mono font-normal"
      />
    </label>
  )
  return (
    <form
      className="mb-5 flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault()
        ask(from.includes('->') ? from : `${from} -> ${to} : ${service}`)
      }}
    >
      {field('From', from, 'ends', (v) => {
        set([v, to, service])
      })}
      <ArrowRight className="mb-2 size-5 text-faint" aria-hidden />
      {field('To', to, 'ends', (v) => {
        set([from, v, service])
      })}
      {field('Service', service, 'services', (v) => {
        set([from, to, v])
      })}
      <Button type="submit" look="main" className="py-2">
        Ask
      </Button>
      <datalist id="ends">
        {[...names, 'everywhere', ...hosts].map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
      <datalist id="services">
        {['ssh', 'https', 'http', 'postgresql', 'dns', 'ping', 'tcp 443', 'udp 53', 'any'].map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
    </form>
  )
}
