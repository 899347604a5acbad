/** The columns that the gate names and every row of the bench share, so that the eye compares machines. */
export const LINE_WIDTH = 640
export const BAY_COLUMN = 'w-[56px] shrink-0'
export const NAME_COLUMN = 'w-[200px] shrink-0 xl:w-[244px]'
export const LINE_COLUMN = 'min-w-0 max-w-[640px] flex-[3]'
export const TODO_COLUMN = 'min-w-[220px] flex-1'
