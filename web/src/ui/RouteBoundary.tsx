import { Component, type ReactNode } from 'react'

import { AwayError } from '../api/client'
import { T } from '../words'

interface RouteBoundaryProps {
  /** Where one is: a failure belongs to its page, and goes with it. */
  path: string
  children: ReactNode
}

/** Keeps a failure on its page: what it was, and a way back. That the server is away is left to whoever waits for it. */
export class RouteBoundary extends Component<RouteBoundaryProps, { error: Error | null; path: string }> {
  override state: { error: Error | null; path: string } = { error: null, path: this.props.path }

  static getDerivedStateFromError(error: Error) {
    return { error }
  }

  static getDerivedStateFromProps(props: RouteBoundaryProps, state: { error: Error | null; path: string }) {
    return props.path === state.path ? null : { error: null, path: props.path }
  }

  override render() {
    const { error } = this.state
    if (!error) return this.props.children
    if (error instanceof AwayError) throw error
    return (
      <main role="alert" className="p-8" data-page-failed>
        <h1 className="text-xl font-bold text-brick">{T.pageFailed}</h1>
        <p className="mt-2 font-mono text-m">{error.message}</p>
        <p className="mt-4 text-l"><a className="touch inline-flex min-h-11 items-center text-indigo underline" href={this.props.path}>{T.pageAgain}</a></p>
        <p className="text-l"><a className="touch inline-flex min-h-11 items-center text-indigo underline" href="/">{T.pageToBench}</a></p>
      </main>
    )
  }
}
