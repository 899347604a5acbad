export { KeyStrip } from './KeyStrip'
export { KeyBookSheet } from './KeyBookSheet'
