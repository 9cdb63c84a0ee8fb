// The calls by which files are imported, part by part.
#include "agent/engine/imports.h"

#include <fmt/format.h>

#include <charconv>

#include "core/json_text.h"
#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

constexpr auto kPatience = 5s;  // for room; then the client is told what it waits for

Json moment(std::int64_t at) { return at == 0 ? Json() : Json(format_rfc3339(at)); }

Json json_of(Api& api, const Import& i) {
  Json pipeline;
  for (const PipelineSettings& p : api.engine().configuration()->pipelines)
    if (api.engine().pipeline_id(p.name) == i.pipeline) pipeline = p.name;
  return {{"id", fmt::format("{:016x}", i.stream)},
          {"file", i.file.path},
          {"host", i.file.host},
          {"bytes", i.file.size},
          {"pipeline", pipeline},
          {"source", i.source},
          {"by", i.by},
          {"again", i.again},
          {"done", i.done},
          {"began", moment(i.began)},
          {"ended", moment(i.ended)},
          {"position", i.position},
          {"part", api.imports().part(i)},
          {"lines", i.lines},
          {"empty", i.empty},
          {"joined", i.joined},
          {"cut", i.cut},
          {"cut_bytes", i.cut_bytes},
          {"events", i.events},
          {"not_taken", i.left},
          {"unmatched", i.unmatched},
          {"dropped", i.dropped},
          {"out", i.made}};
}

Json import_schema() {
  return object_of({{"id", is_text()},
                    {"file", is_text()},
                    {"host", is_text()},
                    {"bytes", is_integer()},
                    {"pipeline", or_null(is_text())},
                    {"source", is_text()},
                    {"by", is_text()},
                    {"again", is_integer()},
                    {"done", is_boolean()},
                    {"began", is_moment()},
                    {"ended", or_null(is_moment())},
                    {"position", is_integer()},
                    {"part", is_integer()},
                    {"lines", is_integer()},
                    {"empty", is_integer()},
                    {"joined", is_integer()},
                    {"cut", is_integer()},
                    {"cut_bytes", is_integer()},
                    {"events", is_integer()},
                    {"not_taken", is_integer()},
                    {"unmatched", is_integer()},
                    {"dropped", is_integer()},
                    {"out", is_integer()}});
}

std::uint64_t stream_in(const std::string& given) {
  std::uint64_t stream = 0;
  const auto [end, error] = std::from_chars(given.data(), given.data() + given.size(), stream, 16);
  if (error != std::errc() || end != given.data() + given.size())
    throw Refused{api_error(400, "`" + given + "` is no import", "GET /v1/imports lists them", "id")};
  return stream;
}

HttpAnswer answer_of(Api& api, const Imports::Answer<Import>& answer) {
  if (answer.value) return json_answer(json_of(api, *answer.value));
  using Why = Imports::Refusal::Why;
  const auto& [why, message, hint, position] = answer.refusal;
  const int status = why == Why::unknown ? 404 : why == Why::conflict ? 409 : why == Why::busy ? 503 : 400;
  HttpAnswer refused = api_error(status, message, hint);
  if (why == Why::busy) refused.headers.emplace_back("Retry-After", "1");
  return refused;
}

HttpAnswer begin_import(Api& api, const Asked& asked) {
  ImportedFile file{asked.text("file"),   asked.text("host"),     asked.number("bytes"),
                    asked.number("hash"), asked.number("device"), asked.number("inode")};
  return answer_of(api, api.imports().begin(file, asked.text("pipeline"), asked.text("source"),
                                            asked.flag("again"), asked.request.who));
}

HttpAnswer take_part(Api& api, const Asked& asked) {
  return answer_of(api, api.imports().take(stream_in(asked.part), asked.number("position"),
                                           asked.request.body, asked.flag("last"), kPatience));
}

HttpAnswer show_import(Api& api, const Asked& asked) {
  const auto import = api.imports().get(stream_in(asked.part));
  if (!import)
    return api_error(404, "there is no import " + asked.part,
                     "GET /v1/imports lists those that are remembered", "id");
  return json_answer(json_of(api, *import));
}

HttpAnswer list_imports(Api& api, const Asked&) {
  AnswerList list;
  for (const Import& i : api.imports().list()) {
    if (!list.room(600 + i.file.path.size())) break;
    list.add(json_of(api, i));
  }
  return json_answer(list.with_cut({{"imports", list.take()}}));
}

HttpAnswer list_reads(Api& api, const Asked&) {
  AnswerList list;
  for (const ReadFile& read : api.imports().read_by_sources()) {
    const FileCheckpoint& c = read.checkpoint;
    if (!list.room(100 + c.path.size() + 50 * (c.rungs.size() + c.growth.size()))) break;
    Json rungs = Json::array();
    for (const Rung& rung : c.all_rungs())
      rungs.push_back({{"position", rung.position}, {"hash", rung.hash}});
    list.add({{"source", read.source},
              {"file", valid_utf8(c.path)},
              {"from", c.begun},
              {"position", c.position},
              {"rungs", rungs}});
  }
  return json_answer(list.with_cut({{"reads", list.take()}}));
}

constexpr const char* kImportExample =
    R"({"id":"5f3a8c0d11e2b497","file":"/srv/old/gate.log.gz","host":"skerry-3","bytes":1048576,
  "pipeline":"gate","source":"gate","by":"owner","again":0,"done":false,"began":"2026-11-30T10:00:00Z","ended":null,
  "position":4194304,"part":4194304,"lines":40000,"empty":0,"joined":0,"cut":0,"cut_bytes":0,"events":40000,"not_taken":0,
  "unmatched":12,"dropped":0,"out":40000})";

const CallRegistration kListImports(
    {.method = "GET",
     .path = "/v1/imports",
     .name = "listImports",
     .text = "Files that were imported, or are being; those that began last come first.",
     .run = list_imports,
     .example = R"({"imports":[]})",
     .answer = [] {
       return object_of({{"imports", list_of(import_schema())}, cut_at_bytes()});
     }});
const CallRegistration kListReads(
    {.method = "GET",
     .path = "/v1/imports/reads",
     .name = "listReads",
     .text = "What sources have read of files: from which byte to which, and by which hashes (XXH64 of the "
             "up to 256 bytes before a "
             "position) the text is known again. A text with those is there already. Of files that are gone "
             "the last 2000 of each source.",
     .run = list_reads,
     .example =
         R"({"reads":[{"source":"gate","file":"/var/log/harbour/gate.log.1","from":0,"position":104,"rungs":[{"position":104,
  "hash":1187613846371837614}]}]})",
     .answer =
         [] {
           return object_of(
               {{"reads", list_of(object_of({{"source", is_text()},
                                             {"file", is_text()},
                                             {"from", is_integer()},
                                             {"position", is_integer()},
                                             {"rungs", list_of(object_of({{"position", is_integer()},
                                                                          {"hash", is_integer()}}))}}))},
                cut_at_bytes()});
         },
     .scope = Scope::operate});
const CallRegistration kShowImport({.method = "GET",
                                    .path = "/v1/imports/{id}",
                                    .name = "showImport",
                                    .text = "How far the import of a file is.",
                                    .run = show_import,
                                    .example = kImportExample,
                                    .answer = import_schema});
const CallRegistration kBeginImport(
    {.method = "POST",
     .path = "/v1/imports",
     .name = "beginImport",
     .text =
         "Begins to import a file through a pipeline, or goes on with what was begun; `position` says where.",
     .body = {{.name = "file", .text = "Its path, absolute.", .required = true},
              {.name = "host", .text = "The machine on which it lies."},
              {.name = "bytes",
               .type = OptionType::number64,
               .text = "The size of its text, decompressed.",
               .required = true},
              {.name = "hash",
               .type = OptionType::number64,
               .text = "A hash of its whole text: by that it is known again.",
               .required = true},
              {.name = "device", .type = OptionType::number64, .text = "The device on which it lies,"},
              {.name = "inode",
               .type = OptionType::number64,
               .text = "and its number there: to see whether a source reads it."},
              {.name = "pipeline", .text = "Where its lines enter.", .required = true},
              {.name = "source",
               .text = "The source as whose they are read, joined and given their zone and fixed fields; the "
                       "only one of files "
                       "that leads to the pipeline, if missing."},
              {.name = "again",
               .type = OptionType::boolean,
               .text =
                   "Though these contents were imported before, or others of that path were begun with."}},
     .run = begin_import,
     .example = kImportExample,
     .answer = import_schema,
     .is_long = true,
     .scope = Scope::operate});
const CallRegistration kTakePart(
    {.method = "POST",
     .path = "/v1/imports/{id}",
     .name = "importPart",
     .text = "Takes the text of a file from `position` on, not compressed, up to its last whole event; "
             "answers when that is on "
             "disk. 409: it goes on elsewhere; 503: it has to wait, as `detail` says.",
     .parameters = {{.name = "position",
                     .type = OptionType::number64,
                     .text = "Of the first byte that is sent; it must be where the import goes on.",
                     .required = true},
                    {.name = "last",
                     .type = OptionType::boolean,
                     .text = "The file ends behind what is sent."}},
     .run = take_part,
     .example = kImportExample,
     .answer = import_schema,
     .is_long = true,
     .needs_body = false,
     .sends = "text/plain",
     .largest = Imports::kLargestPart,
     .scope = Scope::operate});

}  // namespace
}  // namespace dingle
