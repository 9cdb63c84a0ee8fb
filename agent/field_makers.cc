#include "agent/field_makers.h"

#include "core/steps/step.h"

namespace dingle {
namespace {

class Follows final : public StepFields {
 public:
  void reads(const char*, std::string_view) override {}
};

}  // namespace

std::map<std::string, std::vector<std::string>, std::less<>> makers_of_fields(const Configuration& c) {
  std::map<std::string, std::vector<std::string>, std::less<>> all;
  for (const SourceSettings& s : c.sources) {
    for (const auto& [field, text] : s.resource) all[field].push_back("source " + s.name);
    for (const char* field : s.kind->fields) all[field].push_back("source " + s.name);
  }
  for (const PipelineSettings& p : c.pipelines) {
    FieldsThere there;
    for (const auto& step : p.pipeline->steps) {
      Follows follows;
      follows.there = there;
      step->follow(follows);
      for (const std::string& name : follows.there.own())
        if (there.has(name) != FieldsThere::Has::yes)
          all[name].push_back(p.name + ": step " + std::to_string(step->number) + " (`" +
                              (step->name.empty() ? step->kind : step->name) + "`)");
      there = follows.there;
    }
  }
  return all;
}

}  // namespace dingle
