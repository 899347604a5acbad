import { T } from '../words'

/** One key, one act, everywhere. Pages choose from this table and add no key of their own; lists are chosen by digits. */
const ACTS = {
  // the tools of a ticket, as they stand in the strip under the boot line
  connection: 'c', settings: 't', detection: 'd', health: 'p', surface: 'f', sound: 'n', path: 'a', volume: 'v', records: 'l', options: 'o', job: 'j', documents: 'q',
  // what is done
  read: 'r', write: 'w', confirm: 'y', cancel: 'x', undo: 'z', keep: 'k', add: '+', less: '-', pause: 'Space', enter: 'Enter',
  sign: 's', handOver: 'h', note: 'm', other: 'e', guide: 'g', view: 'u', skip: '0',
  // getting about
  bench: 'b', details: 'i', find: '/', help: '?', light: '*', back: 'Escape', up: 'ArrowUp', down: 'ArrowDown', left: 'ArrowLeft', right: 'ArrowRight', none: '',
} as const

export type Act = keyof typeof ACTS

/** A command of a page: what kind of act it is, the keys that do it, and its name as it stands on the screen and in the help. */
export interface Command {
  act: Act
  keys: readonly string[]
  label: string
}

const command = (act: Act, label: string): Command => ({ act, keys: ACTS[act] === '' ? [] : [ACTS[act]], label })

/** What every page has. */
const EVERYWHERE = { help: command('help', T.help), light: command('light', T.light) }
/** The tools of a ticket, in the order of the strip. */
const TOOLS = {
  link: command('connection', T.tools.link), settings: command('settings', T.tools.settings), sightings: command('detection', T.tools.sightings), pages: command('health', T.tools.pages),
  surface: command('surface', T.tools.surface), ear: command('sound', T.tools.ear), path: command('path', T.tools.path), volume: command('volume', T.tools.volume),
  records: command('records', T.tools.records),
  call: command('options', T.tools.call), job: command('job', T.tools.job), papers: command('documents', T.tools.papers),
}
const FROM_A_TICKET = { ...EVERYWHERE, ...TOOLS, bench: command('bench', T.bench), facts: command('details', T.facts) }
const INSTRUMENT = { ...FROM_A_TICKET, back: command('back', T.backToTicket) }

/** The one map of keys: every page's keys, the hints on the screen and the help come from here. */
export const KEYMAP = {
  bench: {
    takeIn: command('add', T.takeIn), find: command('find', T.find), keyBook: command('guide', T.keyBook), practice: command('other', T.practice),
    odds: command('view', T.odds), shelf: command('keep', T.shelfShort), shop: command('settings', T.shopShort), claim: command('connection', T.claimShort), devices: command('details', T.devicesShort), tellMe: command('none', T.tellMe), up: command('up', T.rowUp), down: command('down', T.rowDown), ...EVERYWHERE,
  },
  ticket: {
    else: command('other', T.somethingElse), start: command('read', T.start), undo: command('undo', T.undoLast), putBack: command('cancel', T.putBackKey), takeBack: command('none', T.takeOneBack),
    ways: command('guide', T.waysShort), why: command('view', T.why), sign: command('sign', T.sign), handOver: command('handOver', T.handOver),
    tray: command('add', T.trayAdd), backIn: command('less', T.trayBack), parts: command('guide', T.partsShort), leaveOut: command('skip', T.leaveOut), tape: command('view', T.tapeOrJob), note: command('note', T.noteShort),
    reopen: command('undo', T.reopen), cameBack: command('add', T.cameBack), back: command('back', T.backOrBench), ...FROM_A_TICKET,
  },
  keyStrip: { worked: command('enter', T.keyWorkedShort), didNot: command('less', T.keyDidNot), other: command('add', T.keyOther) },
  settings: {
    up: command('up', T.rowUp), down: command('down', T.rowDown), next: command('right', T.valueNext), before: command('left', T.valueBefore),
    change: command('enter', T.changeIt), putBack: command('cancel', T.putBackKey), walk: command('read', T.tryEachShort), ...INSTRUMENT,
  },
  sightings: {
    left: command('left', T.cellLeft), right: command('right', T.cellRight), up: command('up', T.rowUp), down: command('down', T.rowDown),
    undo: command('undo', T.undo), ...INSTRUMENT,
  },
  surface: {
    before: command('left', T.placeBefore), next: command('right', T.placeNext), closer: command('add', T.loupeCloser), wider: command('less', T.loupeWider),
    compare: command('view', T.besideBefore), start: command('read', T.readSurface), hour: command('other', T.readAnHour), copy: command('keep', T.copyOff), copyTight: command('keep', T.copyTight), pause: command('pause', T.pauseIt), goOn: command('pause', T.goOn),
    stop: command('cancel', T.stopIt), leave: command('cancel', T.leaveIt), ...INSTRUMENT,
  },
  path: {
    read: command('read', T.pathRead), unfold: command('view', T.pathUnfold), mend: command('write', T.pathMend), write: command('confirm', T.pathDo), leave: command('cancel', T.pathLeave), takeBack: command('undo', T.pathTakeBack),
    disk: command('other', T.pathOtherDisk), mode: command('right', T.pathAsLegacy), ...INSTRUMENT,
  },
  volume: {
    look: command('read', T.volumeLook), side: command('view', T.volumeOtherSide), repair: command('write', T.volumeWrite), write: command('confirm', T.volumeDo), leave: command('cancel', T.volumeNot), takeBack: command('undo', T.volumeTakeBack),
    save: command('keep', T.volumeSave), all: command('add', T.volumeAll), deleted: command('less', T.volumeErased), pause: command('pause', T.volumePause), goOn: command('pause', T.volumeGoOn), stop: command('cancel', T.volumeStop),
    key: command('enter', T.volumeKey), disk: command('other', T.volumeOtherDisk), nextVolume: command('right', T.volumeOther), ...INSTRUMENT,
  },
  records: {
    read: command('read', T.recordsRead), before: command('left', T.recordsBefore), next: command('right', T.recordsNext), closer: command('add', T.recordsCloser), wider: command('less', T.recordsWider),
    nextVolume: command('other', T.volumeOther), repair: command('write', T.recordsRepair), write: command('confirm', T.volumeDo), leave: command('cancel', T.volumeNot), takeBack: command('undo', T.volumeTakeBack), ...INSTRUMENT,
  },
  ear: {
    listen: command('read', T.earListen), stop: command('cancel', T.earStop), file: command('add', T.earDrop), practice: command('other', T.earPractice), play: command('pause', T.earPlay), slower: command('less', T.earSlower),
    before: command('left', T.earBefore), next: command('right', T.earNext), quiet: command('none', T.earQuiet), overrule: command('write', T.earOverrule), other: command('view', T.earAnother), watch: command('enter', T.readyStart), never: command('confirm', T.readyNever), fromSound: command('none', T.readyFromSound), fromLink: command('none', T.readyFromLink), drop: command('cancel', T.readyDrop), ...INSTRUMENT,
  },
  pages: { weigh: command('confirm', T.weighThis), compare: command('view', T.sideBySide), ...INSTRUMENT },
  call: { up: command('up', T.rowUp), down: command('down', T.rowDown), keep: command('keep', T.keepTerms), asIs: command('other', T.returnAsIs), sign: command('sign', T.sign), ...INSTRUMENT },
  parts: { shelf: command('keep', T.shelfShort), theirs: command('other', T.partTheirs), ...INSTRUMENT },
  papers: { print: command('enter', T.print), pdf: command('keep', T.asPdf), minutes: command('other', T.minutesShort), shop: command('guide', T.shopShort), ...INSTRUMENT },
  shop: { keep: command('enter', T.keepIt), room: command('other', T.roomShort), back: command('back', T.bench), ...EVERYWHERE },
  room: { sure: command('confirm', T.roomDo), leave: command('cancel', T.roomLeave), shop: command('guide', T.shopShort), back: command('back', T.bench), bench: command('bench', T.bench), ...EVERYWHERE },
  shelf: { bringIn: command('add', T.shelfIn), takeOut: command('keep', T.shelfOut), back: command('back', T.bench), bench: command('bench', T.bench), ...EVERYWHERE },
  group: { several: command('other', T.traySeveral), keep: command('enter', T.trayKeep), more: command('add', T.trayMore), fewer: command('less', T.trayFewer) },
  stepPicker: {},
  copies: { fill: command('write', T.fillShort) },
  fill: {},
  ways: { backToList: command('skip', T.waysOthers), open: command('guide', T.waysOpen), code: command('add', T.codeShort) },
  told: { keep: command('enter', T.keepIt) },
  odds: { reset: command('cancel', T.resetOdds), sure: command('confirm', T.resetDo), back: command('back', T.bench), bench: command('bench', T.bench), ...EVERYWHERE },
  link: { open: command('enter', T.linkOpen), end: command('cancel', T.linkEnd), practice: command('other', T.practiceHere) },
  practice: {},
  claim: { fresh: command('add', T.claimNew), back: command('back', T.bench), bench: command('bench', T.bench), ...EVERYWHERE },
  devices: { pair: command('add', T.pairOne) },
  signIn: {},
  sign: { sure: command('confirm', T.signSure) },
  handOver: { without: command('skip', T.cannotSay), marked: command('confirm', T.handOverMarked) },
} as const satisfies Record<string, Record<string, Command>>

export type ToolId = keyof typeof TOOLS
export const TOOL_IDS = Object.keys(TOOLS) as ToolId[]

export type PageId = keyof typeof KEYMAP
export type CommandId<P extends PageId> = keyof (typeof KEYMAP)[P] & string
/** What a page can do now; a handler gets the key's event where it was a key. */
export type Handlers<P extends PageId> = Partial<Record<CommandId<P>, (event?: KeyboardEvent) => void>>

const SHOWN: Record<string, string> = { ArrowUp: '↑', ArrowDown: '↓', ArrowLeft: '←', ArrowRight: '→', Escape: 'Esc', Enter: 'Enter', Space: 'Space', '-': '−' }

/** A key as it is drawn. */
export const keyName = (key: string): string => SHOWN[key] ?? key.toUpperCase()

/** The first key of a command, as it is drawn. */
export function keyOf<P extends PageId>(page: P, id: CommandId<P>): string {
  return keyName((KEYMAP[page] as unknown as Record<string, Command>)[id]?.keys[0] ?? '')
}

/** The commands of a page in the order of the map. */
export function commandsOf<P extends PageId>(page: P): [CommandId<P>, Command][] {
  return Object.entries(KEYMAP[page]) as [CommandId<P>, Command][]
}

/** Keys for numbered targets: the digits, then the same with the shift key. No letters: those are acts. */
const SHIFT = '\u21e7'
export const TARGET_KEYS: readonly string[] = [...'1234567890', ...[...'1234567890'].map((digit) => SHIFT + digit)]
export const SHEET_KEYS = TARGET_KEYS

/** Targets of which the digits do the first ten and the digits with the shift key the others. */
export function shifted<A>(digits: readonly A[], withShift: readonly A[]): (A | undefined)[] {
  return [...Array.from({ length: 10 }, (_, place) => digits[place]), ...withShift]
}

/** The key of an event as the table has it: a digit with the shift key is a target of its own, whatever the layout makes of it. */
export function keyOfEvent(event: KeyboardEvent): string {
  const digit = event.shiftKey ? /^Digit(\d)$/.exec(event.code)?.[1] : undefined
  if (digit) return SHIFT + digit
  return event.key.length === 1 ? event.key.toLowerCase() : event.key
}
