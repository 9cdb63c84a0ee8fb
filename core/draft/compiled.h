// Templates of a draft, with the built-in patterns. Internal to core/draft.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "core/template/library.h"
#include "core/template/template.h"

namespace dingle {

// nullptr if the text is no sound template.
inline std::shared_ptr<const Template> compiled(const std::string& text,
                                                const TemplateOptions& options = {}) {
  static const PatternLibrary built_in;
  std::vector<Problem> problems;
  return Template::compile(text, built_in, options, problems);
}

}  // namespace dingle
