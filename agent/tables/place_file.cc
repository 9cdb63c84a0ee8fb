#include "agent/tables/place_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <maxminddb.h>
#include <netinet/in.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <set>

#include "core/template/lexemes.h"

namespace dingle {
namespace {

constexpr std::size_t kMostLooked = 2000;  // records, for the paths that are there
constexpr std::size_t kMostPaths = 1000, kDeepestPath = 16;

// A number of the metadata; 0: it is not there. Its name and itself stand in bytes, length first (MaxMind DB 2.0, "Output Data Section").
std::uint64_t metadata_number(std::string_view metadata, const std::string& name) {
  const std::string key = static_cast<char>(2 << 5 | name.size()) + name;
  std::size_t at = metadata.find(key);
  if (at == std::string_view::npos || (at += key.size()) >= metadata.size()) return 0;
  const auto control = static_cast<unsigned char>(metadata[at]);
  const std::size_t size = control & 31, type = control >> 5;
  if ((type != 5 && type != 6) || size > 4 || metadata.size() - at - 1 < size) return 0;
  std::uint64_t number = 0;
  for (std::size_t i = 1; i <= size; ++i) number = number << 8 | static_cast<unsigned char>(metadata[at + i]);
  return number;
}

// Whether the tree that the metadata tells of lies in the file. The library multiplies in 32 bits, and would read outside.
bool tree_fits(std::string_view bytes) {
  const std::size_t at = bytes.rfind("\xAB\xCD\xEFMaxMind.com");
  if (at == std::string_view::npos) return false;
  const std::string_view metadata = bytes.substr(at);
  const std::uint64_t nodes = metadata_number(metadata, "node_count"),
                      bits = metadata_number(metadata, "record_size");
  return nodes != 0 && (bits == 24 || bits == 28 || bits == 32) && nodes * bits / 4 + 16 <= at;
}

Value value_of(const MMDB_entry_data_s& data) {
  switch (data.type) {
    case MMDB_DATA_TYPE_UTF8_STRING: return Value::text({data.utf8_string, data.data_size});
    case MMDB_DATA_TYPE_DOUBLE: return Value::decimal(data.double_value);
    case MMDB_DATA_TYPE_FLOAT: return Value::decimal(static_cast<double>(data.float_value));
    case MMDB_DATA_TYPE_UINT16: return Value::integer(data.uint16);
    case MMDB_DATA_TYPE_UINT32: return Value::integer(data.uint32);
    case MMDB_DATA_TYPE_INT32: return Value::integer(data.int32);
    case MMDB_DATA_TYPE_UINT64:
      return data.uint64 <= INT64_MAX ? Value::integer(static_cast<std::int64_t>(data.uint64))
                                      : Value::decimal(static_cast<double>(data.uint64));
    case MMDB_DATA_TYPE_BOOLEAN: return Value::boolean(data.boolean);
    default: return {};  // maps and lists are no values; bytes and numbers of 128 bits are not shown
  }
}

// The paths in one record; `entry` is moved behind it.
void paths_in(const MMDB_entry_data_list_s*& entry, const std::string& path, std::size_t depth,
              std::set<std::string>& to) {
  if (entry == nullptr || depth > kDeepestPath) return;
  const MMDB_entry_data_s& data = entry->entry_data;
  entry = entry->next;
  const bool map = data.type == MMDB_DATA_TYPE_MAP;
  if (!map && data.type != MMDB_DATA_TYPE_ARRAY) {
    if (to.size() < kMostPaths) to.insert(path);
    return;
  }
  for (std::uint32_t i = 0; i < data.data_size && entry != nullptr; ++i) {
    std::string name = std::to_string(i);
    if (map) {
      if (entry->entry_data.type != MMDB_DATA_TYPE_UTF8_STRING) return;  // damaged
      name.assign(entry->entry_data.utf8_string, entry->entry_data.data_size);
      entry = entry->next;
    }
    paths_in(entry, path.empty() ? name : path + "." + name, depth + 1, to);
  }
}

class PlaceFile final : public PlaceTable {
 public:
  ~PlaceFile() override {
    if (opened_) MMDB_close(&database_);
    if (file_ >= 0) ::close(file_);
  }
  // Why it cannot be used, or "".
  std::string open(std::string_view bytes) {
    if (!tree_fits(bytes)) return "it has no metadata, or these do not fit the file";
    file_ = ::memfd_create("places", MFD_CLOEXEC | MFD_ALLOW_SEALING);
    if (file_ < 0) return std::strerror(errno);
    for (std::string_view rest = bytes; !rest.empty();) {
      const ssize_t n = ::write(file_, rest.data(), rest.size());
      if (n <= 0) return std::strerror(errno);
      rest.remove_prefix(static_cast<std::size_t>(n));
    }
    if (::fcntl(file_, F_ADD_SEALS, F_SEAL_SHRINK | F_SEAL_GROW | F_SEAL_WRITE) != 0)
      return std::strerror(errno);
    const int error = MMDB_open(fmt::format("/proc/self/fd/{}", file_).c_str(), MMDB_MODE_MMAP, &database_);
    if (error != MMDB_SUCCESS) return MMDB_strerror(error);
    opened_ = true;
    look();
    return "";
  }

  std::span<const Value> find(std::string_view address, std::span<const Path> paths,
                              Found& found) const override {
    MMDB_lookup_result_s at = look_up(address);
    if (!at.found_entry) return {};
    found.values.clear();
    std::vector<const char*> way;
    for (const Path& path : paths) {
      way.clear();
      for (const std::string& name : path) way.push_back(name.c_str());
      way.push_back(nullptr);
      MMDB_entry_data_s data{};
      const bool there = MMDB_aget_value(&at.entry, &data, way.data()) == MMDB_SUCCESS && data.has_data;
      found.values.push_back(there ? value_of(data) : Value());
    }
    return found.values;
  }
  bool contains(std::string_view address) const override { return look_up(address).found_entry; }
  std::size_t size() const override { return records_; }
  const std::vector<std::string>& known_paths() const override { return paths_; }

 private:
  MMDB_lookup_result_s look_up(std::string_view text) const {
    MMDB_lookup_result_s nothing{};
    sockaddr_in6 six{};
    if (!parse_ip(text, six.sin6_addr.s6_addr)) return nothing;
    sockaddr_in four{};
    const bool is_four = IN6_IS_ADDR_V4MAPPED(&six.sin6_addr);
    six.sin6_family = AF_INET6;
    four.sin_family = AF_INET;
    std::memcpy(&four.sin_addr, six.sin6_addr.s6_addr + 12, 4);
    int error = MMDB_SUCCESS;
    const MMDB_lookup_result_s at = MMDB_lookup_sockaddr(
        &database_,
        is_four ? reinterpret_cast<const sockaddr*>(&four) : reinterpret_cast<const sockaddr*>(&six), &error);
    return error == MMDB_SUCCESS ? at : nothing;
  }

  // The paths of the first records that a walk through the tree comes to.
  void look() {
    std::set<std::string> paths;
    std::vector<std::pair<std::uint32_t, unsigned>> open{{0, 0}};
    while (!open.empty() && records_ < kMostLooked) {
      const auto [number, depth] = open.back();
      open.pop_back();
      MMDB_search_node_s node;
      if (depth > 128 || MMDB_read_node(&database_, number, &node) != MMDB_SUCCESS) continue;
      for (const bool right : {true, false}) {
        const std::uint8_t type = right ? node.right_record_type : node.left_record_type;
        if (type == MMDB_RECORD_TYPE_SEARCH_NODE)
          open.emplace_back(static_cast<std::uint32_t>(right ? node.right_record : node.left_record),
                            depth + 1);
        else if (type == MMDB_RECORD_TYPE_DATA)
          look_at(right ? node.right_record_entry : node.left_record_entry, paths);
      }
    }
    paths_.assign(paths.begin(), paths.end());
  }
  void look_at(MMDB_entry_s entry, std::set<std::string>& paths) {
    ++records_;
    MMDB_entry_data_list_s* all = nullptr;
    if (MMDB_get_entry_data_list(&entry, &all) == MMDB_SUCCESS) {
      const MMDB_entry_data_list_s* at = all;
      paths_in(at, "", 0, paths);
    }
    MMDB_free_entry_data_list(all);
  }

  int file_ = -1;
  MMDB_s database_{};
  bool opened_ = false;
  std::size_t records_ = 0;
  std::vector<std::string> paths_;
};

}  // namespace

Result<std::shared_ptr<const Table>> read_places(std::string_view bytes) {
  auto places = std::make_shared<PlaceFile>();
  const std::string why = places->open(bytes);
  if (!why.empty())
    return Problem{"it is no database of places: " + why, "the MaxMind DB format, version 2", 0, 0};
  return std::shared_ptr<const Table>(places);
}

}  // namespace dingle
