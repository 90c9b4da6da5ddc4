// Nothing jumps under the pointer: what comes in while somebody reads waits behind a word.
import { useCallback, useState } from 'react'

export function useCalm<T>(latest: T | undefined) {
  const [held, setHeld] = useState(false)
  const [kept, setKept] = useState<T>()
  const shown = held ? (kept ?? latest) : latest
  const begin = useCallback(() => {
    setKept((before) => before ?? latest)
    setHeld(true)
  }, [latest])
  const show = useCallback(() => {
    setKept(undefined)
    setHeld(false)
  }, [])
  return { shown, waits: held && kept !== undefined && kept !== latest, show, hold: { onPointerEnter: begin, onPointerLeave: show } }
}
