import { Component, type ReactNode } from 'react'
import { Route, Switch, useLocation, useSearch } from 'wouter'

import { AwayError } from './api/client'
import { useServerEvents } from './api/events'
import { useReload } from './api/reload'
import { WordsProvider } from './api/words'
import { WorkNotices } from './features/bench/WorkNotices'
import { BenchPage } from './features/bench/BenchPage'
import { CallSheetInstrument } from './features/call/CallSheetInstrument'
import { LearningPage } from './features/learning/LearningPage'
import { Gatekeeper } from './features/people'
import { PagesInstrument } from './features/pages/PagesInstrument'
import { SettingsInstrument } from './features/settings/SettingsInstrument'
import { SightingsInstrument } from './features/sightings/SightingsInstrument'
import { PapersInstrument } from './features/papers/PapersInstrument'
import { ShopPage } from './features/papers/ShopPage'
import { RoomPage } from './features/room'
import { PartsInstrument } from './features/work/PartsInstrument'
import { ClaimPage } from './features/link'
import { EarInstrument } from './features/ear'
import { PathInstrument } from './features/path'
import { RecordsInstrument } from './features/records'
import { VolumeInstrument } from './features/volume'
import { SurfaceInstrument } from './features/surface'
import { ShelfPage } from './features/work/ShelfPage'
import { TicketPage } from './features/ticket/TicketPage'
import { clock } from './lib/format'
import { RouteBoundary } from './ui/RouteBoundary'
import { T } from './words'

/** Before the first answer of a server that is away there is nothing to show: say so, and try again. Anything else that fails is said, and not tried again by itself. */
class FirstContact extends Component<{ children: ReactNode }, { error: Error | null }> {
  override state: { error: Error | null } = { error: null }
  static getDerivedStateFromError(error: Error) {
    return { error }
  }
  override componentDidUpdate() {
    if (this.state.error instanceof AwayError) setTimeout(() => location.reload(), 2000)
  }
  override render() {
    const { error } = this.state
    if (!error) return this.props.children
    if (error instanceof AwayError) return <p role="alert" className="p-8 text-l">{T.away}…</p>
    return <main role="alert" className="p-8"><h1 className="text-xl font-bold text-brick">{T.pageFailed}</h1><p className="mt-2 font-mono text-m">{error.message}</p></main>
  }
}

/** The pages, each within its own boundary. */
function Pages() {
  const [path] = useLocation()
  const search = useSearch()
  return (
    <RouteBoundary path={search ? `${path}?${search}` : path}>
      <Switch>
        <Route path="/odds"><LearningPage /></Route>
        <Route path="/ticket/:id/call">{({ id }) => <CallSheetInstrument id={Number(id)} />}</Route>
        <Route path="/claim/:token">{({ token }) => <ClaimPage key={token} token={token} />}</Route>
        <Route path="/shop"><ShopPage /></Route>
        <Route path="/room"><RoomPage /></Route>
        <Route path="/ticket/:id/papers">{({ id }) => <PapersInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/shelf"><ShelfPage /></Route>
        <Route path="/ticket/:id/parts">{({ id }) => <PartsInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/pages">{({ id }) => <PagesInstrument id={Number(id)} />}</Route>
        <Route path="/ticket/:id/path">{({ id }) => <PathInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/volume">{({ id }) => <VolumeInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/records">{({ id }) => <RecordsInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/ear">{({ id }) => <EarInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/surface">{({ id }) => <SurfaceInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/settings">{({ id }) => <SettingsInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id/sightings">{({ id }) => <SightingsInstrument key={id} id={Number(id)} />}</Route>
        <Route path="/ticket/:id">{({ id }) => <TicketPage key={id} id={Number(id)} />}</Route>
        <Route><BenchPage /></Route>
      </Switch>
    </RouteBoundary>
  )
}

function ServerStrip() {
  const { since, isNewer } = useServerEvents()
  useReload(isNewer)
  if (since)
    return (
      <div role="status" className="flex gap-2 bg-brick px-7 py-1.5 text-m text-paper">
        <strong>{T.away}</strong>
        <span>{T.awayDetail(clock(since.toISOString()))}</span>
      </div>
    )
  if (!isNewer) return null
  return (
    <div role="status" className="flex flex-wrap items-center gap-3 bg-indigo px-7 py-1.5 text-m text-paper">
      <strong>{T.newProgram}</strong>
      <span>{T.newProgramDetail}</span>
      <button type="button" className="underline" onClick={() => location.reload()}>{T.newProgramNow}</button>
    </div>
  )
}

export function App() {
  return (
    <FirstContact>
      <Gatekeeper><WordsProvider>
        <div className="flex h-full flex-col">
          <ServerStrip />
          <WorkNotices />
          <div className="min-h-0 flex-1">
            <Pages />
          </div>
        </div>
      </WordsProvider></Gatekeeper>
    </FirstContact>
  )
}
