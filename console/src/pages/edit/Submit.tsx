// What becomes of a draft: it is proposed, published, or left.
import { useNavigate } from 'react-router'

import { keepDraft, useSubmit, type Draft } from '../../api/draft'
import { useMay } from '../../api/session'
import { Button } from '../../components/Button'
import { Deed } from '../../components/Deed'

export function Submit({ draft, changed, sound, discard }: { draft: Draft; changed: boolean; sound: boolean; discard: () => void }) {
  const mayPropose = useMay('propose')
  const mayPublish = useMay('publish')
  const { propose, publish } = useSubmit()
  const go = useNavigate()
  const ready = changed && sound
  return (
    <span className="ml-auto flex flex-wrap gap-2">
      {changed && <Button onClick={discard}>Discard changes</Button>}
      {mayPropose && (
        <Deed
          name="Propose"
          look="main"
          disabled={!ready}
          reason="needed"
          consequence={<p>Other people see what the change means, and approve or decline it. Nothing is published and no host changes. Undo: withdraw the proposal.</p>}
          run={async (why) => {
            const made = await propose.mutateAsync({ files: draft.files, why })
            keepDraft(undefined)
            void go(`/proposals/${String(made.number)}`)
          }}
        />
      )}
      {mayPublish && (
        <Deed
          name="Publish"
          disabled={!ready}
          reason="needed"
          consequence={
            <>
              <p>The draft becomes the newest revision. If it needs approvals, it is refused: propose it instead. No host changes until a wave puts it in force.</p>
              <p className="text-faint">If somebody else published after you started, it is refused and your draft is kept. Undo: publish an earlier revision again.</p>
            </>
          }
          run={async (why) => {
            const done = await publish.mutateAsync({ files: draft.files, why, after: draft.base })
            keepDraft(undefined)
            void go(`/policy?revision=${String(done.revision)}`)
          }}
        />
      )}
    </span>
  )
}
