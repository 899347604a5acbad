import type { TapeEntry } from '../../api/client'

/** A line of the tape: one entry, or all entries of one reading (a capture, a finished order) together. */
export type TapeLine =
  | { kind: 'entry'; entry: TapeEntry }
  | { kind: 'reading'; file: string; name: string; entries: readonly TapeEntry[] }

function fileName(entry: TapeEntry): string {
  const restsOn = entry.body['rests_on']
  return restsOn && typeof restsOn === 'object' && 'name' in restsOn ? String(restsOn.name) : ''
}

/** The tape as lines, newest first: neighbours that rest on one file are one line. */
export function tapeLines(tape: readonly TapeEntry[]): TapeLine[] {
  const lines: TapeLine[] = []
  for (const entry of tape) {
    const last = lines.at(-1)
    if (entry.from_file && last?.kind === 'reading' && last.file === entry.from_file) {
      lines[lines.length - 1] = { ...last, entries: [...last.entries, entry] }
    } else if (entry.from_file) {
      lines.push({ kind: 'reading', file: entry.from_file, name: fileName(entry), entries: [entry] })
    } else {
      lines.push({ kind: 'entry', entry })
    }
  }
  return lines.reverse()
}

/** The entry of a reading that says most: the drive's own pages, else the first. */
export function leadingEntry(entries: readonly TapeEntry[]): TapeEntry | undefined {
  return entries.find((e) => e.body['move'] === 'health-pages') ?? entries[0]
}

/** The last entry that an undo would take back; what followed from a step goes with it. */
export function lastStanding(tape: readonly TapeEntry[]): number | null {
  const last = tape.findLast((e) => e.stands && !('undo' in e.body))
  const step = last?.body['belongs']
  return typeof step === 'number' ? step : last?.place ?? null
}
