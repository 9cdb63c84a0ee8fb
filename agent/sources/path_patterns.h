// Patterns of paths: * ? [] within a name, ** for any number of folders, {a,b} for either.
//
// * ? [] as in POSIX.1-2017, 2.13 (fnmatch): a leading dot is matched by a dot alone. ** stands alone between
// two slashes or at the end; it leads into folders, but not through symbolic links or into hidden ones.
#pragma once

#include <functional>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "agent/sources/file_access.h"

namespace dingle {

class PathPatterns {
 public:
  // Excluded ones without a slash are compared with the file's name.
  explicit PathPatterns(const std::vector<std::string>& patterns,
                        const std::vector<std::string>& excluded = {});

  bool matches(const std::string& path) const;
  bool names(const std::string& path) const;  // one of the patterns is this very path
  bool is_excluded(const std::string& path) const;

  struct Found {
    std::set<std::string> paths;  // of whatever kind; a symbolic link may lead nowhere
    std::set<std::string>
        folders;            // that were looked through, with their final slash; "" is the working folder
    bool too_many = false;  // more folders than kMostFolders: some were not looked through
    // What could not be looked at, and its errno value: folders, with their final slash, and files. What lies there is unknown.
    std::map<std::string, int> unknown;
    bool is_unknown(const std::string& path) const;  // it, or a folder that it lies in
  };
  // Costs a listing of each folder in which names are compared.
  Found find(const FileAccess& access = system_file_access()) const;
  static constexpr std::size_t kMostFolders = 10'000;

 private:
  using Pattern = std::vector<std::string>;  // its parts between slashes
  static void look(const FileAccess& access, const std::string& folder, const Pattern& pattern,
                   std::size_t part, Found& found);
  std::vector<Pattern> patterns_;
  std::vector<std::string> excluded_names_;
  std::vector<Pattern> excluded_paths_;
};

// Each way to choose one of {a,b}; braces may be nested. At most 1000 of them.
std::vector<std::string> with_braces_chosen(const std::string& pattern);

}  // namespace dingle
