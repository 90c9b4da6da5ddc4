// One of several views of the same thing.
import { Tabs } from 'radix-ui'
import type { ReactNode } from 'react'

export function Tab({ value, children }: { value: string; children: ReactNode }) {
  return (
    <Tabs.Trigger value={value} className="-mb-px border-b-2 border-transparent px-3 py-2 font-medium text-faint hover:text-ink data-[state=active]:border-fence data-[state=active]:text-ink">
      {children}
    </Tabs.Trigger>
  )
}
