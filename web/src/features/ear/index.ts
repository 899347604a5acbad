export { EarInstrument } from './EarInstrument'
