// The options of a configuration's own parts; those of kinds stand with the kinds.
#include "agent/configuration.h"
#include "core/template/template.h"

namespace dingle {

const std::vector<OptionSpec>& server_options() {
  static const std::vector<OptionSpec> all{
      {.name = "data",
       .type = OptionType::text,
       .fallback = "/var/lib/dingle",
       .text = "The folder for the spool, the indexes and the token."},
      {.name = "listen",
       .type = OptionType::text,
       .fallback = "127.0.0.1:3464",
       .text = "Address and port of the API. Port 0 takes a free one; the file `address` in the data folder "
               "names it."},
      {.name = "hosts",
       .type = OptionType::texts,
       .text = "Names by which a proxy on this machine calls the API, as they stand in `Host`. Where it "
               "listens on the "
               "loopback it answers to the loopback's names and to these alone."},
      {.name = "tls",
       .type = OptionType::section,
       .text = "Makes the API listen with TLS; needed where it listens beyond the loopback.",
       .section = {{.name = "certificate",
                    .type = OptionType::text,
                    .text = "File of the certificate (PEM)."},
                   {.name = "key", .type = OptionType::text, .text = "File of its key (PEM)."}}},
      {.name = "agents",
       .type = OptionType::secrets,
       .text =
           "Agents that may write to the indexes here, each with a token of its own: `name: { file: PATH }`. "
           "Their tokens are good for nothing else."},
      {.name = "workers",
       .type = OptionType::integer,
       .fallback = "2",
       .text = "Threads that run pipelines.",
       .least = 1,
       .most = 256},
      {.name = "stop_within",
       .type = OptionType::duration,
       .fallback = "10s",
       .text = "How long a stop may take to empty the queues of destinations that answer. What is left waits "
               "in the "
               "spool for the next start."},
      {.name = "spool",
       .type = OptionType::section,
       .text = "The queue on disk.",
       .section =
           {{.name = "on",
             .type = OptionType::choice,
             .fallback = "disk",
             .text = "Where the queue is kept. `memory`: nothing is written; files are read again from where "
                     "all destinations had them, so that after a crash the last events may come twice.",
             .choices = {"disk", "memory"}},
            {.name = "sync",
             .type = OptionType::choice,
             .fallback = "batch",
             .text =
                 "When what is queued is forced to disk: at once (`batch`), every `interval`, or when the "
                 "operating system likes (`os`: exact through kill -9, not through power loss).",
             .choices = {"batch", "interval", "os"}},
            {.name = "interval",
             .type = OptionType::duration,
             .fallback = "50ms",
             .text = "For `sync: interval`.",
             .least = 1000000},
            {.name = "limit",
             .type = OptionType::size,
             .fallback = "4GiB",
             .text = "Bytes that may wait for all destinations together. At the limit sources pause.",
             .least = 1 << 20},
            {.name = "compression",
             .type = OptionType::choice,
             .fallback = "none",
             .text = "Whether what waits is compressed: less disk, more processor.",
             .choices = {"none", "zstd"}}}},
      {.name = "held",
       .type = OptionType::section,
       .text = "Lines that pipelines with `mask` or `digest` could not take apart, kept so that only who has "
               "the key can read "
               "them (`dingle held`).",
       .section =
           {{.name = "key",
             .type = OptionType::secret,
             .text =
                 "The key; outside the data folder. With it `unparsed: hold` is what such pipelines do."}}},
      {.name = "letters",
       .type = OptionType::section,
       .text = "The store of dead letters.",
       .section = {{.name = "limit",
                    .type = OptionType::size,
                    .fallback = "256MiB",
                    .text = "How large it may grow. A destination whose letters do not fit waits.",
                    .least = 1 << 16}}}};
  return all;
}

const std::vector<OptionSpec>& source_options() {
  static const std::vector<OptionSpec> all{
      {.name = "was",
       .type = OptionType::text,
       .text = "The former name of this source: it goes on where that one was."},
      {.name = "resource",
       .type = OptionType::values,
       .text = "Fields that every event of this source gets, for instance `service.name`."},
      {.name = "zone",
       .type = OptionType::zone,
       .fallback = "UTC",
       .text = "The zone of times in its lines that name none: a name of the tz database, or an offset."}};
  return all;
}

const std::vector<OptionSpec>& pipeline_options() {
  static const std::vector<OptionSpec> all{
      {.name = "was",
       .type = OptionType::text,
       .text = "The former name of this pipeline: its counters, what its steps remember and its dead letters "
               "stay with it."},
      {.name = "from",
       .type = OptionType::references,
       .text = "What it takes: the lines of sources, the finished events of other pipelines, and "
               "`leftovers`, the lines "
               "that no pipeline takes from a source. A name means the source, where a pipeline has it too.",
       .required = true},
      {.name = "where",
       .type = OptionType::condition,
       .text = "Which of those it takes: a condition on the body and the resource, and on the fields of what "
               "comes from another "
               "pipeline. All, if there is none."},
      {.name = "unless",
       .type = OptionType::condition,
       .text = "Which of those it leaves to others after all: a condition as in `where`."},
      {.name = "unparsed",
       .type = OptionType::choice,
       .text = "In a pipeline that hides values: what becomes of lines that a step before `mask` could not "
               "take apart, and in "
               "which they may stand anywhere. `hold`: the line is sealed with the key `server.held.key`, "
               "and its shape is stored; "
               "`mask`: only its shape is; `pass`: it is stored as it is. `hold` where there is a key, else "
               "`mask`.",
       .choices = {"hold", "mask", "pass"}},
      {.name = "to",
       .type = OptionType::routes,
       .text = "The destinations of its events. One with a condition, `{ alerts: \"score >= 80\" }`, gets "
               "those finished events "
               "for which it holds; what goes to none is counted as `unrouted`. May be missing where another "
               "pipeline takes "
               "its events."}};
  return all;
}

const std::vector<OptionSpec>& destination_options() {
  static const std::vector<OptionSpec> all{
      {.name = "was",
       .type = OptionType::text,
       .text = "The former name of this destination: what waits under it is delivered here."},
      {.name = "queue",
       .type = OptionType::section,
       .text = "What may wait for this destination.",
       .section = {{.name = "limit",
                    .type = OptionType::size,
                    .fallback = "1GiB",
                    .text = "Bytes that may wait.",
                    .least = 1 << 20},
                   {.name = "overflow",
                    .type = OptionType::choice,
                    .fallback = "pause",
                    .text =
                        "What happens at the limit. `pause`: the sources that feed it wait. `shed_oldest`: "
                        "the oldest events that wait for it are given up, `shed_newest`: the new ones; "
                        "both are counted, and other destinations lose nothing.",
                    .choices = {"pause", "shed_oldest", "shed_newest"}},
                   {.name = "age",
                    .type = OptionType::duration,
                    .text = "With `shed_oldest`: events that have waited longer are given up too."}}},
      {.name = "batch",
       .type = OptionType::section,
       .text = "What is delivered at once.",
       .section = {{.name = "events",
                    .type = OptionType::integer,
                    .fallback = "8192",
                    .text = "At most so many events.",
                    .least = 1},
                   {.name = "bytes",
                    .type = OptionType::size,
                    .fallback = "8MiB",
                    .text = "No further events once there are so many bytes.",
                    .least = 1},
                   {.name = "age",
                    .type = OptionType::duration,
                    .fallback = "25ms",
                    .text = "How long a small batch waits for company."}}},
      {.name = "retry",
       .type = OptionType::section,
       .text = "How a failed delivery is tried again.",
       .section = {{.name = "first",
                    .type = OptionType::duration,
                    .fallback = "200ms",
                    .text = "The first wait; it doubles from try to try, with jitter.",
                    .least = 1000000},
                   {.name = "longest",
                    .type = OptionType::duration,
                    .fallback = "5s",
                    .text = "The longest wait.",
                    .least = 1000000},
                   {.name = "give_up_after",
                    .type = OptionType::duration,
                    .fallback = "5m",
                    .text = "How long an event is tried that a destination turns away while it takes others; "
                            "then it is set aside. An unreachable destination is waited for."}}}};
  return all;
}

const std::vector<OptionSpec>& pattern_options() {
  static const std::vector<OptionSpec> all{
      {.name = "regex", .type = OptionType::text, .text = "A regular expression (PCRE2 syntax)."},
      {.name = "template", .type = OptionType::template_text, .text = "A template; its fields come with it."},
      {.name = "type",
       .type = OptionType::choice,
       .fallback = "text",
       .text = "What the text of a regex is converted to.",
       .choices = kind_names()},
      {.name = "text",
       .type = OptionType::text,
       .text = "What it is, in words, for messages such as `expected a berth`."},
      {.name = "replace",
       .type = OptionType::boolean,
       .fallback = "false",
       .text = "Takes the place of the built-in pattern of this name."}};
  return all;
}

}  // namespace dingle
