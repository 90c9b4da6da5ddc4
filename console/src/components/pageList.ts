// Every page: its name, where it is, and the key that leads to it.
import { Activity, BookOpenCheck, Cloud, FileDiff, Grid3x3, LayoutDashboard, MessageCircleQuestionMark, Rows3, ScrollText, Settings2, Ship, type LucideIcon } from 'lucide-react'

export interface Page {
  name: string
  path: string
  key: string
  icon: LucideIcon
}

export const pages: Page[] = [
  { name: 'Overview', path: '/', key: 'o', icon: LayoutDashboard },
  { name: 'Fleet', path: '/fleet', key: 'f', icon: Rows3 },
  { name: 'Policy', path: '/policy', key: 'p', icon: ScrollText },
  { name: 'Proposals', path: '/proposals', key: 'n', icon: FileDiff },
  { name: 'Reach', path: '/reach', key: 'm', icon: Grid3x3 },
  { name: 'Ask', path: '/ask', key: 'q', icon: MessageCircleQuestionMark },
  { name: 'Waves', path: '/waves', key: 'w', icon: Ship },
  { name: 'Clouds', path: '/clouds', key: 'c', icon: Cloud },
  { name: 'Traffic', path: '/traffic', key: 't', icon: Activity },
  { name: 'Record', path: '/record', key: 'l', icon: BookOpenCheck },
  { name: 'Settings', path: '/settings', key: 'v', icon: Settings2 },
]
