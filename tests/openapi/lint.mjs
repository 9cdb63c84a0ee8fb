// Holds an OpenAPI document against the linter's recommended rules: `node lint.mjs docs/openapi.json`. Any finding is a failure.
import { createConfig, lint } from '@redocly/openapi-core';

const config = await createConfig({ extends: ['recommended'], telemetry: 'off' });
const found = await lint({ ref: process.argv[2], config });
for (const f of found) {
  const at = f.location?.[0];
  console.log(`${f.severity}: ${f.message} (${f.ruleId}) at ${at?.pointer ?? ''}`);
}
console.log(`${process.argv[2]}: ${found.length} findings`);
process.exit(found.length === 0 ? 0 : 1);
