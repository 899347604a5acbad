export { RoomPage } from './RoomPage'
