export { InstrumentFrame } from './InstrumentFrame'
export { useHelp } from './useHelp'
