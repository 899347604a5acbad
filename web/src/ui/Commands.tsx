import { createContext, useContext, useState, type ReactNode } from 'react'

import { useHotkeys, type Hotkeys } from '../lib/hotkeys'
import { commandsOf, KEYMAP, keyName, TARGET_KEYS, type Command, type CommandId, type Handlers, type PageId } from '../lib/keymap'
import { toggleTheme } from '../lib/theme'
import { HelpSheet } from './HelpSheet'
import { KeyAction } from './Key'

interface Bound {
  page: PageId
  handlers: Record<string, ((event?: KeyboardEvent) => void) | undefined>
}

const CommandsContext = createContext<Bound | null>(null)

interface CommandsProps<P extends PageId> {
  page: P
  /** What the page can do now; a command without a handler has no key, no hint, and is dimmed in the help. */
  on: Handlers<P>
  /** Numbered targets: the first has key 1. */
  targets?: readonly ((() => void) | undefined)[]
  targetKeys?: readonly string[]
  /** False while a sheet with keys of its own lies over the page. */
  isOn?: boolean
  /** Its sheet lies over whatever page there is: no key reaches that. */
  isAlone?: boolean
  /** Whether the help lies open, where the page keeps that itself. */
  helps?: boolean
  onHelp?: (shows: boolean) => void
  children: ReactNode
}

function hotkeysOf(bound: Bound, targets: readonly ((() => void) | undefined)[], targetKeys: readonly string[]): Hotkeys {
  const keys: Hotkeys = {}
  for (const [id, { keys: own }] of commandsOf(bound.page) as [string, Command][]) {
    const act = bound.handlers[id]
    if (act) for (const key of own) keys[key === 'Space' ? ' ' : key] = act
  }
  targets.forEach((act, index) => {
    const key = targetKeys[index]
    if (key && act) keys[key] = () => act()
  })
  return keys
}

/** Binds a page's commands to their keys, for it and all hints below it, and brings the help. */
export function Commands<P extends PageId>({ page, on, targets = [], targetKeys = TARGET_KEYS, isOn = true, isAlone = false, helps: shown, onHelp, children }: CommandsProps<P>) {
  const [own, setOwn] = useState(false)
  const helps = shown ?? own
  const setHelps = onHelp ?? setOwn
  const hasHelp = 'help' in KEYMAP[page]
  const bound: Bound = { page, handlers: hasHelp ? { light: toggleTheme, ...on, help: () => setHelps(true) } : { ...on } }
  useHotkeys(hotkeysOf(bound, targets, targetKeys), isOn && !helps, isAlone)
  return (
    <CommandsContext value={bound}>
      {children}
      {helps && <HelpSheet page={page} handlers={bound.handlers} onClose={() => setHelps(false)} />}
    </CommandsContext>
  )
}

interface DoProps<P extends PageId> {
  /** The page is named where the types should know its commands; at run time it is the one around it. */
  of: P
  id: CommandId<P>
  label?: string
  strong?: boolean
}

/** A command as key and words, by key or by tap; nothing where the page cannot do it now. */
export function Do<P extends PageId>({ of, id, label, strong = false }: DoProps<P>) {
  const bound = useContext(CommandsContext)
  const command = (KEYMAP[of] as unknown as Record<string, Command>)[id]
  const act = bound?.page === of ? bound.handlers[id] : undefined
  if (!act || !command) return null
  return <KeyAction hotkey={keyName(command.keys[0] ?? '')} label={label ?? command.label} onPress={() => act()} strong={strong} />
}
