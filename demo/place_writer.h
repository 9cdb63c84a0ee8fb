// Writes databases of places in the MaxMind DB format (version 2.0): the demo's, and those of tests.
//
//   std::string file = write_places(R"({"net":"192.0.2.0/28","country":{"iso_code":"XS"},"city":{"names":{"en":"Ternholm"}}})");
//
// A line of NDJSON is a range and what is known of it; a range within another one replaces it there.
#pragma once

#include <arpa/inet.h>

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <nlohmann/json.hpp>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

class PlaceWriter {
 public:
  // Ranges in their order of width, the widest first. False: it is no range.
  bool add(const std::string& net, const nlohmann::json& place) {
    const std::size_t slash = net.find('/');
    const std::string address = net.substr(0, slash);
    std::array<unsigned char, 16> bytes{};
    const bool four = address.find(':') == std::string::npos;
    if (inet_pton(four ? AF_INET : AF_INET6, address.c_str(), bytes.data() + (four ? 12 : 0)) != 1)
      return false;
    const int most = four ? 32 : 128;
    const int bits = (slash == std::string::npos ? most : std::atoi(net.c_str() + slash + 1)) + 128 - most;
    std::size_t at = 0;
    for (int i = 0; i < bits; ++i) {
      const bool right = (bytes[static_cast<std::size_t>(i / 8)] >> (7 - i % 8) & 1) != 0;
      const std::int64_t next = nodes_[at][right];
      if (i == bits - 1) {
        nodes_[at][right] = -2 - static_cast<std::int64_t>(data_.size());
        write(place, data_);
      } else if (next >= 0) {
        at = static_cast<std::size_t>(next);
      } else {
        nodes_[at][right] = static_cast<std::int64_t>(nodes_.size());
        nodes_.push_back({next, next});  // what was known of all of it
        at = nodes_.size() - 1;
      }
    }
    return true;
  }
  std::string file() const {
    std::string out;
    const auto count = static_cast<std::int64_t>(nodes_.size());
    for (const auto& node : nodes_)
      for (const std::int64_t next : node)
        big(static_cast<std::uint64_t>(next == kNothing ? count
                                       : next < 0       ? count + 16 + (-2 - next)
                                                        : next),
            4, out);
    out.append(16, '\0');
    out += data_;
    out += "\xAB\xCD\xEFMaxMind.com";
    head(7, 9, out);
    const auto number = [&](const char* name, unsigned type, int bytes, std::uint64_t value) {
      write(name, out);
      head(type, static_cast<std::size_t>(bytes), out);
      big(value, bytes, out);
    };
    number("binary_format_major_version", 5, 2, 2);
    number("binary_format_minor_version", 5, 2, 0);
    number("build_epoch", 9, 8, 1'700'000'000);
    number("ip_version", 5, 2, 6);
    number("node_count", 6, 4, nodes_.size());
    number("record_size", 5, 2, 32);
    write("database_type", out), write("Skerry-Places", out);
    write("description", out), write({{"en", "made-up places"}}, out);
    write("languages", out), write(nlohmann::json::array({"en"}), out);
    return out;
  }

 private:
  static constexpr std::int64_t kNothing = -1;
  static void big(std::uint64_t value, int bytes, std::string& out) {
    for (int i = bytes - 1; i >= 0; --i) out += static_cast<char>(value >> 8 * i);
  }
  static void head(unsigned type, std::size_t size, std::string& out) {
    const unsigned shown = size < 29 ? static_cast<unsigned>(size) : size < 285 ? 29 : 30;
    out += static_cast<char>((type > 7 ? 0 : type << 5) | shown);
    if (type > 7) out += static_cast<char>(type - 7);
    if (shown == 29) big(size - 29, 1, out);
    if (shown == 30) big(size - 285, 2, out);
  }
  static void write(const nlohmann::json& value, std::string& out) {
    if (value.is_object()) {
      head(7, value.size(), out);
      for (const auto& [name, member] : value.items()) write(name, out), write(member, out);
    } else if (value.is_array()) {
      head(11, value.size(), out);
      for (const auto& item : value) write(item, out);
    } else if (value.is_string()) {
      const auto& text = value.get_ref<const std::string&>();
      head(2, text.size(), out);
      out += text;
    } else if (value.is_boolean()) {
      head(14, value.get<bool>(), out);
    } else if (value.is_number_integer() && value.get<std::int64_t>() >= 0) {
      head(9, 8, out);
      big(value.get<std::uint64_t>(), 8, out);
    } else {
      std::uint64_t bits = 0;
      const double number = value.get<double>();
      static_assert(sizeof bits == sizeof number);
      std::memcpy(&bits, &number, sizeof bits);
      head(3, 8, out);
      big(bits, 8, out);
    }
  }

  std::vector<std::array<std::int64_t, 2>> nodes_{
      {kNothing, kNothing}};  // the number of the next one, kNothing, or -2 - a place in the data
  std::string data_;
};

// "": a line is none.
inline std::string write_places(std::string_view ndjson) {
  PlaceWriter writer;
  while (!ndjson.empty()) {
    const std::size_t end = std::min(ndjson.find('\n'), ndjson.size());
    nlohmann::json place = nlohmann::json::parse(ndjson.substr(0, end), nullptr, false);
    ndjson.remove_prefix(std::min(end + 1, ndjson.size()));
    if (!place.is_object() || !place.contains("net")) return "";
    const std::string net = place["net"];
    place.erase("net");
    if (!writer.add(net, place)) return "";
  }
  return writer.file();
}

}  // namespace dingle
