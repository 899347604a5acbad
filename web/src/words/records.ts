import type { components } from '../api/schema'

type System = components['schemas']['RecordedSystemOut']

const shown = (iso: string | null): string => (iso ? new Date(iso).toLocaleString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', timeZone: 'UTC' }) : '')
const NOT_READ = 'not read'

/** Words of the System records page. */
export const RECORDS = {
  recordsTitle: 'System records',
  recordsHint: 'What the installed system has written down of itself. It is not started, and nothing is written.',
  recordsRead: 'read system records',
  recordsAgain: 'read again',
  recordsRepair: 'repair the system',
  recordsSure: (copy: boolean) => `${copy ? 'The image changes, the drive does not' : 'The customer’s disk changes'}: values of its registry, no file of the customer. A backup of the old bytes is saved first; you can undo.`,
  recordsReading: 'Reading system records …',
  recordsNone: 'Not read yet',
  recordsNoneHint: 'Starts, power cuts, updates, disk errors and stop codes. No documents are read.',
  recordsBy: (at: string, by: string) => `Read ${at} by ${by} · times in UTC`,
  recordsLine: 'Time line',
  recordsSeen: (count: number) => `${count} ${count === 1 ? 'event' : 'events'} in view`,
  recordsRows: { runs: 'Running', power: 'Power cuts', updates: 'Updates', disk: 'Disk errors', crashes: 'Stop codes', other: 'Other' } as Record<string, string>,
  recordsBefore: 'previous event',
  recordsNext: 'next event',
  recordsCloser: 'zoom in',
  recordsWider: 'zoom out',
  recordsTimes: (count: number) => `${count} times`,
  recordsFindings: 'What it says',
  recordsNoFindings: 'Nothing unusual recorded.',
  recordsNoSystem: 'No installed system found on this volume.',
  recordsNotRead: 'Nothing could be read here.',
  recordsSystems: 'Installed system',
  recordsTorn: 'Damaged or not read',
  recordsFacts: (s: System): [string, string][] => [
    ['System', [s.name, s.version].filter(Boolean).join(' ') || NOT_READ],
    ['Build', s.build ?? NOT_READ],
    ['Installed', shown(s.installed) || NOT_READ],
    ['Boot mode', s.firmware?.toUpperCase() ?? NOT_READ],
    ['Storage mode', s.installed_for.map((m) => m.toUpperCase()).join(', ') || NOT_READ],
    ['Clock', s.universal === null ? NOT_READ : [s.universal ? 'universal time' : 'local time', s.zone].filter(Boolean).join(', ')],
    ['Last good start', shown(s.last_good_start) || NOT_READ],
    ['Last shutdown', [shown(s.last_shutdown) || NOT_READ, s.clean === false ? 'not shut down' : ''].filter(Boolean).join(', ')],
    ...(s.hibernated ? ([['Hibernated', 'yes']] as [string, string][]) : []),
    ...(s.pending.length > 0 ? ([['Pending', s.pending.join('; ')]] as [string, string][]) : []),
  ],
} as const
