import { T } from '../words'

/** A command of a page: the keys that do it, and its name as it stands on the screen and in the help. */
export interface Command {
  keys: readonly string[]
  label: string
}

const command = (keys: string, label: string): Command => ({ keys: keys.split(' '), label })

/** What every page has. */
const EVERYWHERE = { help: command('?', T.help), light: command('l', T.light) }
const FROM_A_TICKET = { ...EVERYWHERE, bench: command('b', T.bench), facts: command('f', T.facts) }
const INSTRUMENT = { ...FROM_A_TICKET, back: command('Escape', T.backToTicket) }

/** The one map of keys: every page's keys, the hints on the screen and the help come from here. */
export const KEYMAP = {
  bench: {
    takeIn: command('n', T.takeIn), find: command('/', T.find), keyBook: command('k', T.keyBook), practice: command('p', T.practice),
    odds: command('o', T.odds), shelf: command('s', T.shelfShort), shop: command('g', T.shopShort), claim: command('w', T.claimShort), devices: command('d', T.devicesShort), tellMe: command('m', T.tellMe), up: command('ArrowUp', T.rowUp), down: command('ArrowDown', T.rowDown), ...EVERYWHERE,
  },
  ticket: {
    else: command('e /', T.somethingElse), start: command('r', T.start), undo: command('u', T.undoLast), putBack: command('x', T.putBackKey), takeBack: command('z', T.takeOneBack),
    settings: command('t', T.settings), sightings: command('i', T.sightings), pages: command('p', T.pages), surface: command('F2', T.surfaceShort), path: command('F3', T.pathShort), ear: command('F4', T.earShort), volume: command('F8', T.volumeShort), link: command('y', T.linkShort),
    ways: command('g', T.waysShort), why: command('w', T.why), call: command('c', T.callSheet), sign: command('s', T.sign), handOver: command('h', T.handOver),
    tray: command('+', T.trayAdd), backIn: command('-', T.trayBack), parts: command('d', T.partsShort), leaveOut: command('v', T.leaveOut), tape: command('j', T.tapeOrJob), note: command('m', T.noteShort), papers: command('q', T.papersShort),
    reopen: command('o', T.reopen), cameBack: command('n', T.cameBack), back: command('Escape', T.backOrBench), ...FROM_A_TICKET,
  },
  keyStrip: { worked: command('Enter', T.keyWorkedShort), didNot: command('-', T.keyDidNot), other: command('+', T.keyOther) },
  settings: {
    up: command('ArrowUp', T.rowUp), down: command('ArrowDown', T.rowDown), next: command('ArrowRight', T.valueNext), before: command('ArrowLeft', T.valueBefore),
    change: command('Enter', T.changeIt), putBack: command('x', T.putBackKey), walk: command('t', T.tryEachShort), sightings: command('i', T.sightings), ...INSTRUMENT,
  },
  sightings: {
    left: command('ArrowLeft', T.cellLeft), right: command('ArrowRight', T.cellRight), up: command('ArrowUp', T.rowUp), down: command('ArrowDown', T.rowDown),
    undo: command('u', T.undo), settings: command('t', T.settings), pages: command('p', T.pages), ...INSTRUMENT,
  },
  surface: {
    before: command('ArrowLeft', T.placeBefore), next: command('ArrowRight', T.placeNext), closer: command('+', T.loupeCloser), wider: command('-', T.loupeWider),
    compare: command('v', T.besideBefore), start: command('r', T.readSurface), hour: command('h', T.readAnHour), copy: command('c', T.copyOff), copyTight: command('k', T.copyTight), pause: command('Space', T.pauseIt), goOn: command('Space', T.goOn),
    stop: command('x', T.stopIt), leave: command('x', T.leaveIt), pages: command('p', T.pages), ...INSTRUMENT,
  },
  path: {
    read: command('r', T.pathRead), unfold: command('v', T.pathUnfold), mend: command('m', T.pathMend), write: command('Enter', T.pathDo), leave: command('x', T.pathLeave), takeBack: command('z', T.pathTakeBack),
    disk: command('d', T.pathOtherDisk), mode: command('o', T.pathAsLegacy), volume: command('F8', T.volumeShort), sightings: command('i', T.sightings), pages: command('p', T.pages), ...INSTRUMENT,
  },
  volume: {
    look: command('r', T.volumeLook), side: command('v', T.volumeOtherSide), repair: command('m', T.volumeWrite), write: command('Enter', T.volumeDo), leave: command('x', T.volumeNot), takeBack: command('z', T.volumeTakeBack),
    save: command('s', T.volumeSave), all: command('a', T.volumeAll), deleted: command('g', T.volumeErased), pause: command('Space', T.volumePause), goOn: command('Space', T.volumeGoOn), stop: command('x', T.volumeStop),
    disk: command('d', T.volumeOtherDisk), volume: command('o', T.volumeOther), path: command('F3', T.pathShort), pages: command('p', T.pages), ...INSTRUMENT,
  },
  ear: {
    listen: command('r', T.earListen), stop: command('Enter', T.earStop), file: command('o', T.earDrop), practice: command('p', T.earPractice), play: command('Space', T.earPlay), slower: command('s', T.earSlower),
    before: command('ArrowLeft', T.earBefore), next: command('ArrowRight', T.earNext), quiet: command('q', T.earQuiet), overrule: command('u', T.earOverrule), other: command('v', T.earAnother), watch: command('t', T.readyStart), never: command('n', T.readyNever), fromSound: command('k', T.readyFromSound), fromLink: command('y', T.readyFromLink), drop: command('x', T.readyDrop), ...INSTRUMENT,
  },
  pages: { surface: command('F2', T.surfaceShort), ear: command('F4', T.earShort), path: command('F3', T.pathShort), volume: command('F8', T.volumeShort), weigh: command('w', T.weighThis), compare: command('v', T.sideBySide), ...INSTRUMENT },
  call: {
    up: command('ArrowUp', T.rowUp), down: command('ArrowDown', T.rowDown), data: command('d', T.data), urgency: command('t', T.urgency), budget: command('g', T.budget),
    worth: command('v', T.worth), dataValue: command('a', T.dataValue), keep: command('k', T.keepTerms), sign: command('s', T.sign), ...INSTRUMENT,
  },
  parts: { shelf: command('s', T.shelfShort), theirs: command('m', T.partTheirs), ...INSTRUMENT },
  papers: { print: command('p', T.print), pdf: command('d', T.asPdf), minutes: command('t', T.minutesShort), shop: command('g', T.shopShort), ...INSTRUMENT },
  shop: { keep: command('Enter', T.keepIt), back: command('Escape', T.bench), ...EVERYWHERE },
  shelf: { bringIn: command('m', T.shelfIn), takeOut: command('e', T.shelfOut), back: command('Escape', T.bench), bench: command('b', T.bench), ...EVERYWHERE },
  group: { several: command('s', T.traySeveral), keep: command('Enter', T.trayKeep), more: command('+', T.trayMore), fewer: command('-', T.trayFewer) },
  stepPicker: {},
  copies: { fill: command('g', T.fillShort) },
  fill: {},
  ways: { backToList: command('0', T.waysOthers), open: command('o', T.waysOpen), code: command('c', T.codeShort) },
  told: { keep: command('Enter', T.keepIt) },
  odds: { reset: command('r', T.resetOdds), sure: command('y', T.resetDo), back: command('Escape', T.bench), bench: command('b', T.bench), ...EVERYWHERE },
  link: { open: command('m', T.linkOpen), end: command('x', T.linkEnd), practice: command('p', T.practiceHere) },
  practice: {},
  claim: { fresh: command('n', T.claimNew), back: command('Escape', T.bench), bench: command('b', T.bench), ...EVERYWHERE },
  devices: { pair: command('m', T.pairOne) },
  handOver: { without: command('0', T.cannotSay), marked: command('h', T.handOverMarked) },
} as const satisfies Record<string, Record<string, Command>>

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

/** Keys for numbered targets: digits first, then letters; on a page only those that it does not use for itself. */
export const SHEET_KEYS = [...'1234567890abcdefghijklmnopqrstuvwxyz']
export const TARGET_KEYS: readonly string[] = ['1', '2', '3', '4', '5', '6', '7', '8', '9', '0', 'a', 'd', 'g', 'j', 'k', 'm', 'q', 'v']
