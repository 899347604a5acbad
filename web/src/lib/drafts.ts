/** What somebody has typed and not sent: fields that were typed into, are still on the page, and are not empty. */

export interface Field {
  value: string
  isConnected: boolean
}

export class Drafts {
  private fields = new Set<Field>()

  typed(field: Field): void {
    this.fields.add(field)
  }

  /** Is anything typed that a reload would lose? */
  any(): boolean {
    for (const field of this.fields) if (!field.isConnected) this.fields.delete(field)
    return [...this.fields].some((field) => field.value.trim() !== '')
  }
}

/** May the page load anew now: nothing is typed, no dialog is open, nothing is on its way to the server, and nothing records. */
export const mayReload = (now: { drafts: boolean; dialog: boolean; sending: number; path: string }): boolean =>
  !now.drafts && !now.dialog && now.sending === 0 && !now.path.endsWith('/ear')
