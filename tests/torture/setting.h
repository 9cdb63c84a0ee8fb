// The configurations of the two programs that the torture drives; words in braces are replaced.
#pragma once

namespace dingle {

inline constexpr const char* kConfiguration = R"(
sources:
  numbered: { files: { paths: ['{dir}/logs/alpha.log*', '{dir}/logs/beta.log*'] } }
  hostile: { files: { paths: ['{dir}/logs/gamma.log*'] } }
  split: { files: { paths: ['{dir}/logs/delta.log*'] } }
  old: { files: { paths: ['{dir}/never/*.log'] } }
  posted: { http: { listen: '127.0.0.1:{port}' } }
pipelines:
  all:
    from: [numbered]
    steps: [ parse: { templates: ['{file:word} {n:int} {:rest}'] } ]
    to: [store, remote, table, service, archive]
  others:
    from: [hostile]
    steps:
      - parse: { templates: ['{file:word} {n:int} {payload:rest}'] }
      - json: { field: payload, prefix: 'payload.' }
    to: [store, remote, table, service, archive]
  none:
    from: [numbered]
    steps: [ parse: { templates: ['{file:word} {n:int} {:rest}'] }, drop: { where: 'n >= 0' } ]
    to: [store, remote, table]
  even:
    from: [split]
    where: "body matches '^delta [0-9]*[02468] '"
    steps: [ parse: { templates: ['{file:word} {n:int} {:rest}'] }, set: { fields: { file: even } } ]
    to: [halves]
  odd:
    from: [leftovers]
    steps: [ parse: { templates: ['{file:word} {n:int} {:rest}'] }, set: { fields: { file: odd } } ]
    to: [halves]
  posts:
    from: [posted]
    steps: [ parse: { templates: ['{file:word} {n:int} {:rest}'] } ]
    to: [posts]
  past:
    from: [old]
    steps: [ parse: { templates: ['{file:word} {n:int} at {at:rfc3339}'] }, set: { fields: { pass: first } } ]
    to: [past]
  sums:
    from: [all, others, even, odd, posts]
    steps:
      - unique: { by: [file, n], within: 1000h, most_keys: 5000 }
      - fold:
          by: [file]
          window: 1s
          grace: 300ms
          longest: 5s
          most_windows: 4
          values: { folded: count(*), total: sum(n) }  # and more
    to: [sums, { large: 'folded >= 100' }]
  across:
    from: [all, even, odd]
    where: "body like '% at 20%'"
    steps:
      - parse: { templates: ['{:word} {:int} at {at:rfc3339} {:rest}'] }
      - time: { field: at }
      - fold:
          window: 10m
          grace: 300ms
          longest: 5s
          most_windows: 4
          values: { across: count(*), total: sum(n), begins: first(file) }
    to: [sums]
destinations:
  halves: { index: { name: 'halves' } }
  posts: { index: { name: 'posts' } }
  past: { index: { name: 'past-{day}' } }
  sums: { index: { name: 'sums' } }
  large: { files: { path: '{dir}/large/{day}.ndjson' } }
  store:
    index: { name: 'numbered-{day}' }
    retry: { first: 10ms, longest: 200ms }
  remote:
    index: { name: 'numbered-{day}', at: '{remote}', token: { file: '{dir}/token' }, timeout: 2s }
    retry: { first: 10ms, longest: 200ms }
  table:
    postgres: { connect: '{postgres}', table: numbered, columns: { file: text, n: int }, timeout: 2s }
    retry: { first: 10ms, longest: 200ms }
  service:
    http: { url: '{service}', timeout: 1s, requests: 2 }
    retry: { first: 10ms, longest: 200ms }
  archive:
    files: { path: '{dir}/archive/numbered-{day}.ndjson', compression: zstd, rotate: { size: 1MiB } }
    retry: { first: 10ms, longest: 200ms }
)";

// The store elsewhere that the agent feeds; its own source gives nothing.
inline constexpr const char* kRemote = R"(
sources: { none: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines: { none: { from: [none], to: [all] } }
destinations: { all: { index: {} } }
)";

}  // namespace dingle
