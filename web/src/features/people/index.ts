export { DevicesSheet } from './DevicesSheet'
export { Gatekeeper } from './Gatekeeper'
