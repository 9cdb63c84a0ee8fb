// The kinds of sources and destinations. A kind is one file: a ComponentSpec with its options, a class, and a
// registration. Nothing else names it.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "core/event.h"
#include "core/options/options.h"
#include "core/template/library.h"

namespace dingle {

class Source;
class Destination;
class Namer;
struct SourceMaking;
struct DestinationMaking;
struct SplitSettings;

// What a kind is checked with, of sources, destinations and steps alike (StepMaking): `prepare` and `make` are called with
// sound options only, all of them there, with their fallbacks. Findings take the option's place by `options.where(NAME)`,
// which is there for every option that the kind declares, given or not.
struct Checking {
  const Options& options;
  const PatternLibrary& patterns;
  Findings& findings;
};

// What a kind works out from its options when a configuration is read; made again at every reload.
class Prepared {
 public:
  virtual ~Prepared() = default;
  virtual const SplitSettings* split() const { return nullptr; }  // how a source cuts and joins lines
};

struct SourceKind {
  ComponentSpec spec;
  std::shared_ptr<const Prepared> (*prepare)(const Checking&);  // reports errors; may answer nullptr
  std::unique_ptr<Source> (*make)(const SourceMaking&);
  std::vector<const char*> fields = {};  // that its resources have, beside those that are fixed for a source
  const char* header = "";               // the pattern of its lines' headers (core/flow/line_header.h)
};

struct DestinationKind {
  ComponentSpec spec;
  bool stores = true;  // false: its events are not kept in the spool (`nowhere`)
  // Reports errors. Makes what gives each event its index name, table or path; nullptr if the destination needs none.
  std::shared_ptr<const Namer> (*prepare)(const Checking&);
  std::unique_ptr<Destination> (*make)(const DestinationMaking&);
};

const std::vector<const SourceKind*>& source_kinds();
const std::vector<const DestinationKind*>& destination_kinds();
const SourceKind* source_kind(std::string_view name);
const DestinationKind* destination_kind(std::string_view name);

struct SourceRegistration {
  explicit SourceRegistration(const SourceKind& kind);  // `kind` lives as long as the program
};
struct DestinationRegistration {
  explicit DestinationRegistration(const DestinationKind& kind);
};

}  // namespace dingle
