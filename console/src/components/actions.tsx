// What the page that is open offers to do, for the palette.
import { createContext, useContext, useEffect, useState, type ReactNode } from 'react'

export interface Action {
  name: string
  run: () => void
}

const Offered = createContext<{ all: Action[]; set: (all: Action[]) => void }>({ all: [], set: () => undefined })

export function Actions({ children }: { children: ReactNode }) {
  const [all, set] = useState<Action[]>([])
  return <Offered value={{ all, set }}>{children}</Offered>
}

export const useActions = () => useContext(Offered).all

/** Offers what a page can do while it is open; the list must stay the same while what it does does. */
export function useOffer(actions: Action[]) {
  const { set } = useContext(Offered)
  useEffect(() => {
    set(actions)
    return () => {
      set([])
    }
  }, [actions, set])
}
