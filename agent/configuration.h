// A configuration: what a file says, checked and compiled, ready to run. The format is docs/configuration.md.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "agent/kinds.h"
#include "agent/tables/table_file.h"
#include "core/flow/flow.h"
#include "core/flow/line_header.h"
#include "core/options/options.h"

namespace dingle {

// The reference page of the built-in patterns (Markdown), from the library itself.
std::string pattern_reference();

struct SourceSettings {
  std::string name, was;
  const SourceKind* kind = nullptr;
  Options options;
  std::shared_ptr<const Prepared> prepared;
  std::vector<std::pair<std::string, std::string>> resource;  // fields fixed for the source
  Zone zone;                                                  // of times that name none
  std::string
      written;  // its options as text, and the patterns that it may use, to see whether a reload changed them
  const LineHeader* header() const { return LineHeader::of(kind->header); }  // nullptr: its lines have none
};

// Where a pipeline's events go.
struct Route {
  std::string destination;
  std::shared_ptr<const Condition> where;  // on the finished event; nullptr: all of them
};
struct PipelineSettings {
  std::string name, was;
  std::shared_ptr<const Pipeline> pipeline;
  std::vector<Route> to;
  // Of one that hides: what it takes, and all that it does up to the last step that hides, as text. Whoever changes that may
  // change what is hidden.
  std::string hiding = {};
};

struct DestinationSettings {
  std::string name, was;
  const DestinationKind* kind = nullptr;
  Options options, common;  // of the kind; of every destination
  std::shared_ptr<const Namer> namer;
  std::string written;  // its options as text, to see whether a reload changed them
};

struct Configuration {
  std::string text;     // as it was read
  std::string version;  // 8 hex digits of the text's hash: the same text, the same version
  Options server;
  std::shared_ptr<const PatternLibrary> patterns;
  std::vector<TableSettings> tables;
  Tables tables_by_name;
  std::vector<SourceSettings> sources;
  std::vector<PipelineSettings> pipelines;
  std::vector<DestinationSettings> destinations;
  Flow flow;  // how they are joined

  const SourceSettings* source(std::string_view name) const;
  const DestinationSettings* destination(std::string_view name) const;
};

// Why the server may not listen where its options say, or "".
std::string listen_problem(const Options& server);

std::string version_of(std::string_view text);  // 8 hex digits

// Reads and checks all of it. Answers nullptr if there are errors; warnings alone do not stop it.
std::shared_ptr<const Configuration> read_configuration(std::string_view text, Findings& findings);
// The same for a text that somebody sent to try it: nothing that it names is opened. Tables are those of `running` where their
// names and options are the same, and empty otherwise; keys are made up for this reading, so that nobody learns the digest of a
// text by sending it.
std::shared_ptr<const Configuration> read_sent_configuration(std::string_view text, Findings& findings,
                                                             const Configuration& running);
// What runs, as if it had been sent. Read once for each.
std::shared_ptr<const Configuration> to_be_tried(const std::shared_ptr<const Configuration>& running);

const std::vector<OptionSpec>& server_options();
const std::vector<OptionSpec>& source_options();  // of every source, beside its kind
const std::vector<OptionSpec>& pipeline_options();
const std::vector<OptionSpec>& destination_options();  // of every destination, beside its kind
const std::vector<OptionSpec>& pattern_options();

// The JSON Schema (2020-12) of the format, and the reference page, both from the tables of options.
std::string configuration_schema();
std::string configuration_reference();

}  // namespace dingle
