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

// What checking a source needs to know.
struct SourceChecking {
  const Options& options;
  const PatternLibrary& patterns;
  Findings& findings;
};

// What a kind works out from its options when a configuration is read; made again at every reload.
class Prepared {
 public:
  virtual ~Prepared() = default;
};

struct SourceKind {
  ComponentSpec spec;
  std::shared_ptr<const Prepared> (*prepare)(const SourceChecking&);  // reports errors; may answer nullptr
  std::unique_ptr<Source> (*make)(const SourceMaking&);
};

struct DestinationKind {
  ComponentSpec spec;
  bool stores = true;  // false: its events are not kept in the spool (`nowhere`)
  // Makes what gives each event its index name or path; nullptr if the destination needs none.
  std::shared_ptr<const Namer> (*namer)(const Options&, Findings&);
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
