export { SurfaceInstrument } from './SurfaceInstrument'
