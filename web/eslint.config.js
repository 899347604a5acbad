import hooks from 'eslint-plugin-react-hooks'
import typescript from 'typescript-eslint'

export default typescript.config(
  { ignores: ['dist', 'src/api/schema.d.ts'] },
  {
    files: ['src/**/*.{ts,tsx}'],
    extends: [typescript.configs.base],
    linterOptions: { reportUnusedDisableDirectives: 'error' },
    plugins: { 'react-hooks': hooks },
    // the rules of hooks; what the compiler of React asks beyond them is for code that it compiles
    rules: { 'react-hooks/rules-of-hooks': 'error', 'react-hooks/exhaustive-deps': 'error' },
  },
)
