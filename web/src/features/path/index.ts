export { PathInstrument } from './PathInstrument'
