export { RecordsInstrument } from './RecordsInstrument'
