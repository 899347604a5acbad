import { Component, type ReactNode } from 'react'

import { T } from '../words'

interface PaneBoundaryProps {
  children: ReactNode
}

/** Keeps a failure inside its pane: the rest of the bench stays usable. */
export class PaneBoundary extends Component<PaneBoundaryProps, { error: Error | null }> {
  override state: { error: Error | null } = { error: null }

  static getDerivedStateFromError(error: Error) {
    return { error }
  }

  override render() {
    if (!this.state.error) return this.props.children
    return (
      <div role="alert" className="p-4 text-m">
        <div className="font-semibold text-brick">{T.paneFailed}</div>
        <div className="font-mono text-s text-soft">{this.state.error.message}</div>
      </div>
    )
  }
}
