export { PagesInstrument } from './PagesInstrument'
