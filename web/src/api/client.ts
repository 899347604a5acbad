import type { components } from './schema'

type Schemas = components['schemas']
export type Bench = Schemas['BenchOut']
export type BenchRow = Schemas['BenchRow']
export type Ticket = Schemas['TicketOut']
export type TicketIn = Schemas['TicketIn']
export type Gate = Schemas['GateOut']
export type Suspect = Schemas['SuspectOut']
export type NextMove = Schemas['NextOut']
export type Held = Schemas['HeldOut']
export type Call = Schemas['CallOut']
export type TapeEntry = Schemas['EntryOut']
export type Words = Schemas['WordsOut']
export type MoveWords = Schemas['MoveWords']
export type Capture = Schemas['CaptureOut']
export type Drive = Schemas['DriveOut']
export type Finding = Schemas['FindingOut']
export type Running = Schemas['RunningOut']
export type Found = Schemas['FoundOut']
export type Known = Schemas['KnownOut']
export type KnownEntry = Schemas['KnownEntryOut']
export type CallSheet = Schemas['SheetOut']
export type SheetRow = Schemas['SheetRowOut']
export type Overturn = Schemas['OverturnOut']
export type Guess = Schemas['GuessOut']
export type Learning = Schemas['LearningOut']
export type Bin = Schemas['BinOut']
export type Trial = Schemas['TrialOut']
export type Settings = Schemas['SettingsOut']
export type SettingRow = Schemas['SettingRowOut']
export type CapturedFirmware = Schemas['CapturedFirmwareOut']
export type Walk = Schemas['WalkOut']
export type Sightings = Schemas['SightingsOut']
export type DriveLine = Schemas['DriveLineOut']
export type Cell = Schemas['CellOut']
export type Keys = Schemas['KeysOut']
export type TriedKey = Schemas['KeyOut']
export type BookModel = Schemas['BookModelOut']
export type Link = Schemas['LinkOut']
export type LinkRow = Schemas['LinkRowOut']
export type Patient = Schemas['PatientOut']
export type DriveEvent = Schemas['EventOut']
export type Trend = Schemas['TrendOut']
export type Me = Schemas['MeOut']
export type PairingCode = Schemas['CodeOut']
export type Device = Schemas['DeviceOut']
export type Technician = Schemas['TechnicianOut']
export type Raw = Schemas['RawOut']
export type Papers = Schemas['PapersOut']
export type Paper = Schemas['PaperOut']
export type ShopPage = Schemas['ShopPageOut']
export type Pace = Schemas['PaceOut']
export type Work = Schemas['WorkOut']
export type WorkStep = Schemas['StepOut']
export type Group = Schemas['GroupOut']
export type KnownGroup = Schemas['KnownGroupOut']
export type Guide = Schemas['GuideOut']
export type ProofLine = Schemas['ProofOut']
export type Parts = Schemas['PartsOut']
export type Fit = Schemas['FitOut']
export type Item = Schemas['ItemOut']
export type Shelf = Schemas['ShelfOut']
export type GroupIn = Omit<Schemas['GroupIn'], 'by' | 'key'>
export type PartIn = Omit<Schemas['PartIn'], 'by' | 'key'>
export type Terms = Record<string, string | number>
/** What an entry may hold on the wire; the server checks it. */
export type EntryBody = Record<string, unknown>

/** The server answered and said no: `detail` is what, where, expected, got. */
export class ApiError extends Error {
  readonly status: number
  constructor(status: number, detail: string) {
    super(detail)
    this.status = status
  }
}

/** A request that somebody has to sign in for, or that needs a right which another one lends: what is missing, and the server's words. */
export interface Asked {
  needs: string
  detail: string
}

let asker: ((asked: Asked) => Promise<boolean>) | null = null

/** Whoever shows the question for a PIN: true where the same request may be sent again. */
export function onAsked(next: typeof asker): void {
  asker = next
}

/** The server could not be reached at all. */
export class AwayError extends Error {}

interface Request {
  method?: string
  json?: unknown
  form?: FormData
  signal?: AbortSignal
  /** It was asked for a PIN once already. */
  isAgain?: boolean
}

export async function call<T>(path: string, request: Request = {}): Promise<T> {
  const init: RequestInit = { method: request.method ?? 'GET' }
  if (request.signal) init.signal = request.signal
  // a page of another origin cannot send this header without asking first
  const headers: Record<string, string> = init.method === 'GET' ? {} : { 'X-Gate-Check': '1' }
  if (request.json !== undefined) {
    init.body = JSON.stringify(request.json)
    headers['Content-Type'] = 'application/json'
  } else if (request.form) {
    init.body = request.form
  }
  init.headers = headers
  let answer: Response
  try {
    answer = await fetch(`/api${path}`, init)
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error
    throw new AwayError('The server does not answer')
  }
  if (answer.ok) return (answer.status === 204 ? undefined : await answer.json()) as T
  const problem: unknown = await answer.json().catch(() => null)
  const detail =
    problem && typeof problem === 'object' && 'detail' in problem ? String(problem.detail) : answer.statusText
  const needs = problem && typeof problem === 'object' && 'needs' in problem ? String(problem.needs) : ''
  if (needs && asker && !request.isAgain && (await asker({ needs, detail }))) return call<T>(path, { ...request, isAgain: needs !== 'sign-in' })
  throw new ApiError(answer.status, detail)
}

export const api = {
  me: () => call<Me>('/me'),
  pair: (code: string, who: string) => call<Me>('/pair', { method: 'POST', json: { code, initials: who } }),
  signIn: (initials: string, pin: string) => call<Me>('/sign-in', { method: 'POST', json: { initials, pin } }),
  signOut: () => call<Me>('/sign-out', { method: 'POST' }),
  approve: (right: string, initials: string, pin: string) => call<unknown>('/approve', { method: 'POST', json: { right, initials, pin } }),
  technicians: () => call<Technician[]>('/technicians'),
  addTechnician: (initials: string, role: string, pin: string, by: string) => call<Technician[]>('/technicians', { method: 'POST', json: { initials, role, pin, by } }),
  changeTechnician: (id: number, json: { role?: string; pin?: string }) => call<Technician[]>(`/technicians/${id}`, { method: 'PUT', json }),
  removeTechnician: (id: number) => call<Technician[]>(`/technicians/${id}`, { method: 'DELETE' }),
  makeCode: () => call<PairingCode>('/devices/code', { method: 'POST' }),
  devices: () => call<Device[]>('/devices'),
  revokeDevice: (id: number) => call<Device[]>(`/devices/${id}`, { method: 'DELETE' }),
  bench: (signal?: AbortSignal) => call<Bench>('/bench', signal ? { signal } : {}),
  words: (signal?: AbortSignal) => call<Words>('/words', signal ? { signal } : {}),
  ticket: (id: number, signal?: AbortSignal) => call<Ticket>(`/tickets/${id}`, signal ? { signal } : {}),
  find: (text: string) => call<Found[]>(`/find?text=${encodeURIComponent(text)}`),
  takeIn: (json: TicketIn) => call<Ticket>('/tickets', { method: 'POST', json }),
  append: (id: number, entries: readonly EntryBody[], by: string, key: string) =>
    call<Ticket>(`/tickets/${id}/entries`, { method: 'POST', json: { entries, by, key } }),
  known: (customer: string, machine: string, signal?: AbortSignal) =>
    call<Known>(`/known?customer=${encodeURIComponent(customer)}&machine=${encodeURIComponent(machine)}`, signal ? { signal } : {}),
  handOver: (id: number, proven: readonly string[] | null, waive: string | null, by: string) =>
    call<Ticket>(`/tickets/${id}/handover`, { method: 'POST', json: { proven, waive, by } }),
  work: (id: number, signal?: AbortSignal) => call<Work>(`/tickets/${id}/work`, signal ? { signal } : {}),
  /** One change of the work: its place under the ticket, and what is said with it. */
  doWork: (id: number, place: string, json: Record<string, unknown>) => call<Ticket>(`/tickets/${id}/${place}`, { method: 'POST', json }),
  addPicture: (id: number, file: File, says: string, evidence: boolean, by: string, key: string) => {
    const form = new FormData()
    form.append('file', file)
    form.append('says', says)
    form.append('evidence', String(evidence))
    form.append('by', by)
    form.append('key', key)
    return call<Ticket>(`/tickets/${id}/pictures`, { method: 'POST', form })
  },
  papers: (id: number, signal?: AbortSignal) => call<Papers>(`/tickets/${id}/papers`, signal ? { signal } : {}),
  paper: (id: number, kind: string, signal?: AbortSignal) => call<Paper>(`/tickets/${id}/papers/${kind}`, signal ? { signal } : {}),
  eraseCustomer: (id: number, by: string) => call<Ticket>(`/tickets/${id}/erase`, { method: 'POST', json: { by } }),
  shopPage: (signal?: AbortSignal) => call<ShopPage>('/shop', signal ? { signal } : {}),
  putShopPage: (page: Partial<ShopPage>, by: string) => call<ShopPage>('/shop', { method: 'PUT', json: { page, by } }),
  paces: (signal?: AbortSignal) => call<Pace[]>('/paces', signal ? { signal } : {}),
  parts: (id: number, signal?: AbortSignal) => call<Parts>(`/tickets/${id}/parts`, signal ? { signal } : {}),
  shelf: (signal?: AbortSignal) => call<Shelf>('/shelf', signal ? { signal } : {}),
  bringInShelf: (csv: string, by: string) => call<Shelf>('/shelf', { method: 'POST', json: { csv, by } }),
  removeFromShelf: (id: number) => call<Shelf>(`/shelf/${id}`, { method: 'DELETE' }),
  reopen: (id: number) => call<Ticket>(`/tickets/${id}/reopen`, { method: 'POST' }),
  sheet: (id: number, terms: Terms, signal?: AbortSignal) =>
    call<CallSheet>(`/tickets/${id}/sheet`, { method: 'POST', json: { terms }, ...(signal ? { signal } : {}) }),
  guesses: (id: number, signal?: AbortSignal) => call<Guess[]>(`/tickets/${id}/guesses`, signal ? { signal } : {}),
  settings: (id: number, signal?: AbortSignal) => call<Settings>(`/tickets/${id}/settings`, signal ? { signal } : {}),
  sightings: (id: number, signal?: AbortSignal) => call<Sightings>(`/tickets/${id}/sightings`, signal ? { signal } : {}),
  ticketKeys: (id: number, signal?: AbortSignal) => call<Keys>(`/tickets/${id}/keys`, signal ? { signal } : {}),
  keys: (machine: string, platform: string, signal?: AbortSignal) =>
    call<Keys>(`/keys?machine=${encodeURIComponent(machine)}&platform=${platform}`, signal ? { signal } : {}),
  bookModels: (signal?: AbortSignal) => call<BookModel[]>('/keys/models', signal ? { signal } : {}),
  link: (id: number, signal?: AbortSignal) => call<Link>(`/tickets/${id}/link`, signal ? { signal } : {}),
  openLink: (id: number, by: string) => call<Link>(`/tickets/${id}/link`, { method: 'POST', json: { by } }),
  endLink: (id: number) => call<Link>(`/tickets/${id}/link`, { method: 'DELETE' }),
  putOrder: (id: number, order: string, device: string | null, kind: string | null, by: string) =>
    call<Link>(`/tickets/${id}/orders`, { method: 'POST', json: { order, device, kind, by } }),
  putScan: (id: number, device: string, upto: number | null, by: string) =>
    call<Link>(`/tickets/${id}/orders`, { method: 'POST', json: { order: 'scan', device, ...(upto && { minutes: upto }), by } }),
  putCopy: (id: number, device: string, tight: boolean, by: string) => call<Link>(`/tickets/${id}/orders`, { method: 'POST', json: { order: 'copy', device, tight, by } }),
  steerOrder: (id: number, order: number, what: string, by: string) => call<Link>(`/tickets/${id}/orders/${order}`, { method: 'POST', json: { do: what, by } }),
  connectPractice: (id: number, machine: string, by: string) => call<Link>(`/tickets/${id}/practice`, { method: 'POST', json: { machine, by } }),
  takeInPractice: (machine: string, bay: number | null, by: string) => call<Ticket>('/practice', { method: 'POST', json: { machine, bay, by } }),
  patients: (signal?: AbortSignal) => call<Patient[]>('/practice', signal ? { signal } : {}),
  raw: (id: number, sha256: string, path: string, at: number | null, signal?: AbortSignal) =>
    call<Raw>(`/tickets/${id}/captures/${sha256}/raw?path=${encodeURIComponent(path)}${at === null ? '' : `&at=${at}`}`, signal ? { signal } : {}),
  learning: (signal?: AbortSignal) => call<Learning>('/learning', signal ? { signal } : {}),
  resetLearning: (by: string) => call<Learning>('/learning/reset', { method: 'POST', json: { by } }),
  moveToBay: (id: number, bay: number | null) => call<Ticket>(`/tickets/${id}/bay`, { method: 'PUT', json: { bay } }),
  captures: (id: number, signal?: AbortSignal) =>
    call<Capture[]>(`/tickets/${id}/captures`, signal ? { signal } : {}),
  addFile: (id: number, file: File, by: string) => {
    const form = new FormData()
    form.append('file', file)
    form.append('by', by)
    return call<Capture>(`/tickets/${id}/files`, { method: 'POST', form })
  },
  weigh: (id: number, sha256: string, device: string, by: string) =>
    call<Ticket>(`/tickets/${id}/captures`, { method: 'POST', json: { sha256, device, by } }),
}
