// The configuration file of a running dingled. The file is the truth: a start and a reload take what stands in it, and
// returning to a former version writes it.
#pragma once

#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "agent/engine/engine.h"
#include "agent/engine/versions.h"
#include "server/api.h"

namespace dingle {

class ConfigurationFile {
 public:
  struct Place {
    std::string path = "/etc/dingle/dingle.yaml", data, listen;  // the last two win over what the file says
  };
  struct Read {
    std::string text, problem;
    std::vector<Finding> findings;
    std::shared_ptr<const Configuration> configuration;  // nullptr if it is not sound
  };
  // Who gave a text, and what for; as they say.
  struct Said {
    std::string who, note;
  };
  explicit ConfigurationFile(Place place) : place_(std::move(place)) {}

  const std::string& path() const { return place_.path; }
  Read read() const;
  Read parse(std::string text) const;

  // Keeps what a start took. `versions` and `engine` outlive this.
  void started(const Read& read, Versions& versions, Engine& engine, SampleSets& samples);
  HttpAnswer reload(const Said& said);
  // Writes a former version's text into the file, if what stands there is what runs, and takes it.
  HttpAnswer return_to(std::int64_t number, const Said& said, bool may_see_lines);
  Versions& versions() { return *versions_; }
  static Json findings_json(const std::vector<Finding>& findings);
  static Json findings_schema();  // of findings, as answers tell them

 private:
  std::string take(const Read& read, const Said& said, std::int64_t* number);
  void keep(const Read& read, const Said& said, bool ran, const std::string& why,
            std::int64_t* number = nullptr);
  std::string write(const std::string& text) const;
  const Place place_;
  std::mutex changing_;
  Versions* versions_ = nullptr;
  Engine* engine_ = nullptr;
  SampleSets* samples_ = nullptr;
};

}  // namespace dingle
