// The words of src/lib/format.ts keep to the cases that the service's own keep to: crates/wendor-core/src/words.json.
import { readFileSync } from 'node:fs'
import ts from 'typescript'

const here = (path) => readFileSync(new URL(path, import.meta.url), 'utf8')
const { outputText } = ts.transpileModule(here('src/lib/format.ts'), {
  compilerOptions: { module: ts.ModuleKind.ESNext, target: ts.ScriptTarget.ES2022 },
})
const format = await import(`data:text/javascript,${encodeURIComponent(outputText)}`)

let cases = 0
const wrong = []
for (const [name, table] of Object.entries(JSON.parse(here('../crates/wendor-core/src/words.json')).console))
  for (const [given, expected] of table) {
    const found = String(format[name](...given))
    if (found !== expected) wrong.push(`${name}(${JSON.stringify(given)}) is "${found}", not "${expected}"`)
    cases += 1
  }
if (wrong.length > 0 || cases === 0) {
  process.stderr.write(`${wrong.join('\n') || 'no cases were found'}\n`)
  process.exit(1)
}
