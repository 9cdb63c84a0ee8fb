#include "agent/sources/path_patterns.h"

#include <dirent.h>
#include <fnmatch.h>
#include <sys/stat.h>

#include <algorithm>

namespace dingle {
namespace {

constexpr std::size_t kMostChoices = 1000;

std::vector<std::string> parts_of(const std::string& path) {
  std::vector<std::string> parts{""};
  for (char c : path)
    if (c == '/')
      parts.emplace_back();
    else
      parts.back() += c;
  return parts;
}

bool names_match(const std::string& part, const std::string& name) {
  return ::fnmatch(part.c_str(), name.c_str(), FNM_PERIOD) == 0;
}

using PathPart = std::vector<std::string>::const_iterator;
bool parts_match(PathPart pattern, PathPart pattern_end, PathPart path, PathPart path_end) {
  for (; pattern != pattern_end; ++pattern, ++path) {
    if (*pattern == "**" && pattern + 1 != pattern_end) {
      for (;; ++path) {
        if (parts_match(pattern + 1, pattern_end, path, path_end)) return true;
        if (path == path_end || path->starts_with('.')) return false;
      }
    }
    if (path == path_end || !names_match(*pattern, *path)) return false;
  }
  return path == path_end;
}

// The pattern's parts; ** at the end means all files below.
std::vector<std::string> pattern_of(const std::string& text) {
  std::vector<std::string> parts = parts_of(text);
  if (parts.back() == "**") parts.emplace_back("*");
  return parts;
}

// What cannot be asked about is none, and noted.
bool is_folder(const FileAccess& access, const std::string& path, unsigned char kind, bool through_links,
               PathPatterns::Found& found) {
  if (kind == DT_DIR) return true;
  if (kind != DT_UNKNOWN && (kind != DT_LNK || !through_links)) return false;
  struct stat info;
  const int error = through_links ? access.status(path, info) : access.link_status(path, info);
  if (error != 0 && !is_absent(error)) found.unknown.emplace(path + "/", error);
  return error == 0 && S_ISDIR(info.st_mode);
}

}  // namespace

std::vector<std::string> with_braces_chosen(const std::string& pattern) {
  std::vector<std::string> done, open{pattern};
  while (!open.empty() && done.size() + open.size() < kMostChoices) {
    const std::string text = std::move(open.back());
    open.pop_back();
    const std::size_t begin = text.find('{');
    std::vector<std::size_t> cuts{begin};
    std::size_t depth = 0, end = begin;
    for (; end < text.size(); ++end) {
      depth += text[end] == '{';
      if (text[end] == '}' && --depth == 0) break;
      if (text[end] == ',' && depth == 1) cuts.push_back(end);
    }
    if (end >= text.size()) {
      done.push_back(text);
      continue;
    }
    cuts.push_back(end);
    for (std::size_t i = cuts.size() - 1; i-- > 0;)  // the first is on top
      open.push_back(text.substr(0, begin) + text.substr(cuts[i] + 1, cuts[i + 1] - cuts[i] - 1) +
                     text.substr(end + 1));
  }
  return done;
}

PathPatterns::PathPatterns(const std::vector<std::string>& patterns,
                           const std::vector<std::string>& excluded) {
  for (const std::string& pattern : patterns)
    for (const std::string& chosen : with_braces_chosen(pattern)) patterns_.push_back(pattern_of(chosen));
  for (const std::string& pattern : excluded)
    for (const std::string& chosen : with_braces_chosen(pattern))
      if (chosen.find('/') == std::string::npos)
        excluded_names_.push_back(chosen);
      else
        excluded_paths_.push_back(pattern_of(chosen));
}

bool PathPatterns::is_excluded(const std::string& path) const {
  const std::vector<std::string> parts = parts_of(path);
  return std::any_of(excluded_names_.begin(), excluded_names_.end(),
                     [&](const std::string& name) {
                       return ::fnmatch(name.c_str(), parts.back().c_str(), 0) == 0;
                     }) ||
         std::any_of(excluded_paths_.begin(), excluded_paths_.end(), [&](const Pattern& p) {
           return parts_match(p.begin(), p.end(), parts.begin(), parts.end());
         });
}

bool PathPatterns::matches(const std::string& path) const {
  const std::vector<std::string> parts = parts_of(path);
  return std::any_of(
             patterns_.begin(), patterns_.end(),
             [&](const Pattern& p) { return parts_match(p.begin(), p.end(), parts.begin(), parts.end()); }) &&
         !is_excluded(path);
}

bool PathPatterns::names(const std::string& path) const {
  return std::find(patterns_.begin(), patterns_.end(), pattern_of(path)) != patterns_.end();
}

void PathPatterns::look(const FileAccess& access, const std::string& folder, const Pattern& pattern,
                        std::size_t part, Found& found) {
  const std::string& text = pattern[part];
  const bool last = part + 1 == pattern.size();
  if (text.find_first_of("*?[\\") == std::string::npos) {
    if (!last) return look(access, folder + text + "/", pattern, part + 1, found);
    found.folders.insert(folder);
    if (text.empty()) return;
    struct stat info;
    const int error = access.link_status(folder + text, info);
    if (error == 0)
      found.paths.insert(folder + text);
    else if (!is_absent(error))
      found.unknown.emplace(folder + text, error);
    return;
  }
  if (found.folders.size() >= kMostFolders) {
    found.too_many = true;
    return;
  }
  found.folders.insert(folder);
  const bool deep = text == "**";
  if (deep) look(access, folder, pattern, part + 1, found);
  std::vector<FileAccess::Entry> entries;
  if (const int error = access.list(folder, entries); error != 0 && !is_absent(error))
    found.unknown.emplace(folder, error);
  for (const FileAccess::Entry& entry : entries) {
    const std::string path = folder + entry.name;
    if (deep) {
      if (!entry.name.starts_with('.') && is_folder(access, path, entry.kind, false, found))
        look(access, path + "/", pattern, part, found);
    } else if (names_match(text, entry.name)) {
      if (last)
        found.paths.insert(path);
      else if (is_folder(access, path, entry.kind, true, found))
        look(access, path + "/", pattern, part + 1, found);
    }
  }
}

bool PathPatterns::Found::is_unknown(const std::string& path) const {
  if (unknown.empty()) return false;
  if (unknown.count(path)) return true;
  for (std::size_t end = path.rfind('/'); end != std::string::npos;
       end = end == 0 ? std::string::npos : path.rfind('/', end - 1))
    if (unknown.count(path.substr(0, end + 1))) return true;
  return unknown.count("") != 0 && !path.starts_with('/');
}

PathPatterns::Found PathPatterns::find(const FileAccess& access) const {
  Found found;
  for (const Pattern& pattern : patterns_) look(access, "", pattern, 0, found);
  std::erase_if(found.paths, [&](const std::string& path) { return is_excluded(path); });
  return found;
}

}  // namespace dingle
