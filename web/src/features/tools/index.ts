export { ToolStrip, toolPath } from './ToolStrip'
