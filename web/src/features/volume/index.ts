export { Written } from './Repair'
export { VolumeInstrument } from './VolumeInstrument'
