export { TicketPage } from './TicketPage'
export { TicketHead } from './TicketHead'
