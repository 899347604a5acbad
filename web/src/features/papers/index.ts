export { NoteSheet, usePastedPicture } from './NoteSheet'
