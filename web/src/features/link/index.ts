export { ClaimPage } from './ClaimPage'
export { LinkSheet } from './LinkSheet'
export { LinkStrip } from './LinkStrip'
export { PracticeSheet } from './PracticeSheet'
