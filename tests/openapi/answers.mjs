// Holds what the API answered in tests (server/api_trace.h) against its description:
//   node answers.mjs docs/openapi.json answers.ndjson [folder of the client's sources]
// Fails if an answer is not as its schema says, if a call was never answered well, or if the client uses one that is not described.
import { createReadStream, readFileSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import Ajv from 'ajv/dist/2020.js';
import formats from 'ajv-formats';

const [documentPath, tracePath, clientPath] = process.argv.slice(2);
const document = JSON.parse(readFileSync(documentPath, 'utf8'));
const ajv = new Ajv({ strict: false, allErrors: false });
formats(ajv);
ajv.addSchema(document, 'api');

const validators = new Map();
// The validator of what is answered to an operation; null if it is no JSON, undefined if it is not described.
function validatorOf(path, method, status, type, line) {
  const key = `${method} ${path} ${status} ${type} ${line}`;
  if (!validators.has(key)) validators.set(key, make(path, method, status, type, line));
  return validators.get(key);
}
function make(path, method, status, type, line) {
  const operation = document.paths[path]?.[method.toLowerCase()];
  if (!operation) return undefined;
  const code = operation.responses[status] ? String(status) : status >= 400 ? 'default' : undefined;
  const media = operation.responses[code]?.content?.[type.split(';')[0]];
  if (!media) return undefined;
  if (!media.schema || (!line && !/[/+]json/.test(type))) return null;
  if (line && !media.schema.contentSchema) return null;
  const steps = ['paths', path, method.toLowerCase(), 'responses', code, 'content', type.split(';')[0], 'schema'];
  if (line) steps.push('contentSchema');
  const pointer = steps.map((s) => encodeURIComponent(s.replaceAll('~', '~0').replaceAll('/', '~1'))).join('/');
  return ajv.compile({ $ref: `api#/${pointer}` });
}

const failures = new Map();
function fail(text, body) {
  const known = failures.get(text);
  failures.set(text, { times: (known?.times ?? 0) + 1, body: known?.body ?? body });
}

let answers = 0;
const answered = new Set();
for await (const line of createInterface({ input: createReadStream(tracePath), crlfDelay: Infinity })) {
  const row = JSON.parse(line);
  ++answers;
  if (row.call === undefined || !document.paths[row.call] || row.status === 405) {
    // No such call: a problem all the same.
    const problem = ajv.getSchema('api#/components/schemas/Problem');
    if (row.status < 400 || !problem(JSON.parse(row.body))) fail(`${row.method} ${row.call} ${row.status}: no problem details`, row.body);
    continue;
  }
  const name = `${row.method} ${row.call}`;
  const valid = validatorOf(row.call, row.method, row.status, row.type, row.line);
  if (valid === undefined) fail(`${name} ${row.status} ${row.type}: not described`, row.body);
  if (row.status < 300) answered.add(name);
  if (!valid) continue;
  let body;
  try {
    body = JSON.parse(row.body);
  } catch {
    fail(`${name} ${row.status}: no JSON`, row.body);
    continue;
  }
  if (!valid(body)) fail(`${name} ${row.status}: ${ajv.errorsText(valid.errors)}`, row.body);
}

let calls = 0;
for (const [path, item] of Object.entries(document.paths))
  for (const method of Object.keys(item)) {
    ++calls;
    if (!answered.has(`${method.toUpperCase()} ${path}`) && path !== '/healthz') fail(`${method.toUpperCase()} ${path}: no test had a good answer`, '');
  }

function sourcesIn(folder) {
  return readdirSync(folder, { withFileTypes: true }).flatMap((e) => (e.isDirectory() ? sourcesIn(join(folder, e.name)) : [join(folder, e.name)]));
}
if (clientPath)
  for (const file of sourcesIn(clientPath))
    for (const [, used] of readFileSync(file, 'utf8').matchAll(/"(\/v1\/[a-z./]*)/g))
      if (!Object.keys(document.paths).some((p) => p === used || p.replace(/\{[^}]*\}$/, '') === used))
        fail(`${file} uses ${used}, which is not described`, '');

for (const [text, { times, body }] of failures) console.log(`${text}${times > 1 ? ` (${times} times)` : ''}\n  ${body.slice(0, 400)}`);
console.log(`${answers} answers of ${answered.size} of ${calls} calls held against ${documentPath}: ${failures.size} failures`);
process.exit(failures.size === 0 && answers > 0 ? 0 : 1);
