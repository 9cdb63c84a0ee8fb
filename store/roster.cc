#include "store/roster.h"

#include <fmt/format.h>
#include <xxhash.h>

#include <filesystem>
#include <fstream>
#include <iterator>

#include "spool/whole_file.h"

namespace dingle {
namespace {

constexpr std::size_t kSum = 17;  // bytes of its line

std::string sum_of(std::string_view text) {
  return fmt::format("{:016x}\n", XXH3_64bits(text.data(), text.size()));
}

}  // namespace

const std::set<std::string>& Roster::names() {
  if (read_) return names_;
  read_ = true;
  std::ifstream in(folder_ + "/indexes", std::ios::binary);
  const std::string text(std::istreambuf_iterator<char>(in), {});
  if (text.size() >= kSum && text.ends_with(sum_of(std::string_view(text).substr(0, text.size() - kSum)))) {
    for (std::size_t at = 0; at + kSum < text.size();) {
      const std::size_t end = text.find('\n', at);
      names_.insert(text.substr(at, end - at));
      at = end + 1;
    }
    return names_;
  }
  std::error_code error;
  for (auto it = std::filesystem::directory_iterator(folder_, error);
       !error && it != std::filesystem::directory_iterator(); it.increment(error))
    if (it->path().extension() == ".index") names_.insert(it->path().stem().string());
  if (!names_.empty()) write();
  return names_;
}

bool Roster::write() const {
  std::string text;
  for (const std::string& name : names_) text += name + "\n";
  text += sum_of(text);
  return write_whole(folder_ + "/indexes", text, 0600) == 0;
}

bool Roster::add(const std::string& index) {
  names();
  if (!names_.insert(index).second) return true;
  if (write()) return true;
  names_.erase(index);
  return false;
}

bool Roster::remove(const std::string& index) {
  names();
  return names_.erase(index) == 0 || write();
}

}  // namespace dingle
