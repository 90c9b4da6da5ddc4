// Keys that lead to pages, while nobody writes; whoever is in their way turns them off.
import { useEffect } from 'react'
import { useNavigate } from 'react-router'

import { pages } from './pageList'

const kept = 'yfence-page-keys'

export const pageKeys = () => localStorage.getItem(kept) !== 'off'

export function setPageKeys(on: boolean) {
  localStorage.setItem(kept, on ? 'on' : 'off')
}

/** Whether what somebody types goes into a field. */
function writes(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))
}

export function usePageKeys(search: () => void) {
  const go = useNavigate()
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
        event.preventDefault()
        search()
        return
      }
      if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented || writes(event.target) || !pageKeys()) return
      if (document.querySelector('[role="dialog"]') !== null) return
      const page = pages.find((p) => p.key === event.key)
      if (page) void go(page.path)
    }
    document.addEventListener('keydown', press)
    return () => {
      document.removeEventListener('keydown', press)
    }
  }, [go, search])
}
