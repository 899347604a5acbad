export { InstrumentFrame } from './InstrumentFrame'
export { NothingYet } from './NothingYet'
export { useHelp } from './useHelp'
