import hooks from 'eslint-plugin-react-hooks'
import tseslint from 'typescript-eslint'

export default tseslint.config(
  { ignores: ['src/api/schema.gen.ts'] },
  ...tseslint.configs.strictTypeChecked,
  hooks.configs.flat.recommended,
  { languageOptions: { parserOptions: { projectService: true } } },
  {
    rules: {
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      // useReactTable gives functions that React's compiler cannot memoise; we do not run it.
      'react-hooks/incompatible-library': 'off',
    },
  },
)
