// Tokens: whose they are, what they may do, when they end and when they were last used.
import { useId, useState } from 'react'

import { useMay, type Right } from '../../api/session'
import { useMakeToken, useRevokeToken, useTokens, type Token } from '../../api/settings'
import { rights as allRights } from '../../api/states.gen'
import { Ago, Board, Failure, Loading, Mono, Wide, counted } from '../../components/basics'
import { AsCommand } from '../../components/Button'
import { Deed, Field } from '../../components/Deed'

export function Tokens() {
  const may = useMay('tokens')
  const [secret, setSecret] = useState('')
  if (!may) {
    return (
      <Board title="Tokens">
        <p className="p-4 text-faint">Who may see and make tokens has the right tokens; you have not.</p>
      </Board>
    )
  }
  return (
    <Board
      title="Tokens"
      beside={
        <span className="ml-auto flex flex-wrap items-center gap-2">
          <AsCommand command="yfence tokens" />
          <Make told={setSecret} />
        </span>
      }
    >
      {secret !== '' && (
        <p role="status" className="border-b border-line bg-good-wash px-4 py-3 text-good">
          The new token, which is shown only now: <Mono>{secret}</Mono>
        </p>
      )}
      <List />
    </Board>
  )
}

function List() {
  const tokens = useTokens()
  if (tokens.isPending) return <Loading what="the tokens" />
  if (tokens.error) return <Failure error={tokens.error} />
  const all = tokens.data.tokens ?? []
  const hosts = all.filter((t) => t.host !== undefined && t.host !== '')
  return (
    <>
      <Table name="Tokens of people and programs" tokens={all.filter((t) => !hosts.includes(t))} />
      {hosts.length > 0 && (
        <details className="border-t border-line">
          <summary className="cursor-pointer px-4 py-2 text-sm font-medium">{counted(hosts.length, 'token')} of hosts</summary>
          <Table name="Tokens of hosts" tokens={hosts} />
        </details>
      )}
    </>
  )
}

function Table({ name, tokens }: { name: string; tokens: Token[] }) {
  return (
    <Wide name={name} className="max-h-96">
      <table className="w-full text-left">
        <thead className="sticky top-0 border-b border-line bg-sunk text-sm text-faint">
          <tr>
            {['Name', 'May', 'For', 'Made', 'Last used', 'Ends', ''].map((h) => (
              <th key={h} scope="col" className="px-4 py-1.5 font-medium">
                {h === '' ? <span className="sr-only">What can be done</span> : h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {tokens.map((t) => (
            <Row key={t.id} token={t} />
          ))}
        </tbody>
      </table>
    </Wide>
  )
}

function Row({ token: t }: { token: Token }) {
  const revoke = useRevokeToken()
  const over = t.revoked_at !== undefined
  return (
    <tr className={`border-b border-line align-baseline last:border-0 ${over ? 'text-faint' : ''}`}>
      <td className="px-4 py-1.5 font-medium">{t.name}</td>
      <td className="px-4 py-1.5">{(t.rights ?? []).join(', ')}</td>
      <td className="px-4 py-1.5">{t.for}</td>
      <td className="px-4 py-1.5 whitespace-nowrap">
        <Ago time={t.created_at} />
      </td>
      <td className="px-4 py-1.5 whitespace-nowrap">
        <Ago time={t.used_at} />
      </td>
      <td className="px-4 py-1.5 whitespace-nowrap">{over ? 'revoked' : t.until === undefined ? 'not by itself' : <Ago time={t.until} ahead />}</td>
      <td className="px-4 py-1.5 text-right">
        {!over && (
          <Deed
            name="Revoke"
            small
            look="bad"
            sure={t.name}
            consequence={
              <p>
                Whoever uses the token of {t.name} is refused from now on. {(t.rights ?? []).includes('host') && 'The host cannot report until it is enrolled again.'}
              </p>
            }
            run={() => revoke.mutateAsync(t.id)}
          />
        )}
      </td>
    </tr>
  )
}

function Make({ told }: { told: (secret: string) => void }) {
  const make = useMakeToken()
  const id = useId()
  const [name, setName] = useState('')
  const [purpose, setPurpose] = useState('')
  const [roles, setRoles] = useState('')
  const [chosen, choose] = useState<ReadonlySet<Right>>(new Set(['read']))
  const of = roles.trim() === '' ? '' : `:${roles.split(/[\s,]+/).filter(Boolean).join(',')}`
  return (
    <Deed
      name="Make a token"
      look="main"
      consequence={<p>Whoever has it may do what you choose here, and no more than you may yourself. It is shown once. Undo: revoke it.</p>}
      more={
        <>
          <Field id={`${id}-name`} label="Who or what will use it" value={name} onChange={setName} />
          <Field id={`${id}-for`} label="What for" value={purpose} onChange={setPurpose} />
          <fieldset className="mt-3">
            <legend className="text-sm font-medium">It may</legend>
            <div className="mt-1 flex flex-wrap gap-x-4 gap-y-1">
              {allRights.map((r) => (
                <label key={r} className="flex items-center gap-1.5">
                  <input
                    type="checkbox"
                    checked={chosen.has(r)}
                    onChange={() => {
                      const next = new Set(chosen)
                      if (!next.delete(r)) next.add(r)
                      choose(next)
                    }}
                  />
                  {r}
                </label>
              ))}
            </div>
          </fieldset>
          <Field id={`${id}-roles`} label="For hosts of these roles" value={roles} onChange={setRoles} hint="nothing written: for the whole fleet" />
        </>
      }
      run={async () => {
        const made = await make.mutateAsync({ name: name.trim(), for: purpose.trim(), rights: [...chosen].map((r) => r + of) })
        told(made.secret)
      }}
    />
  )
}
