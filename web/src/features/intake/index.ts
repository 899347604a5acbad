export { IntakeSheet } from './IntakeSheet'
