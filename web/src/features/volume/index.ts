export { VolumeInstrument } from './VolumeInstrument'
