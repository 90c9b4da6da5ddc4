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
      {changed && <Button onClick={discard}>Leave the changes</Button>}
      {mayPropose && (
        <Deed
          name="Propose"
          look="main"
          disabled={!ready}
          reason="needed"
          consequence={<p>Others see what it means, and approve or decline it. Nothing is published, and no host changes. Undo: withdraw it.</p>}
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
              <p>It becomes the newest revision, unless what it admits needs approvals: then it must be proposed. No host changes by that; a wave puts it in force.</p>
              <p className="text-faint">If somebody published since you began, it is refused and nothing is lost. Undo: publish an earlier revision again.</p>
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
