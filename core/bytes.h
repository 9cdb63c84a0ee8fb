// Reading and writing our binary formats: fixed little-endian integers, variable-length integers (LEB128:
// seven bits a byte, lowest first), zigzag for signed ones, texts with their length before them. The reader
// takes foreign bytes: it never reads past its end. After the first wrong byte it stays failed and answers
// zeros and empty texts, so a decoder checks `ok()` once at the end, and bounds what it allocates.
#pragma once

#include <bit>
#include <cstdint>
#include <cstring>
#include <string>
#include <string_view>

namespace dingle {

class ByteWriter {
 public:
  explicit ByteWriter(std::string& out) : out_(out) {}
  void u8(std::uint8_t v) { out_ += static_cast<char>(v); }
  void u32(std::uint32_t v) { fixed(v); }
  void u64(std::uint64_t v) { fixed(v); }
  void varint(std::uint64_t v) {
    char buffer[10];
    int n = 0;
    while (v >= 0x80) buffer[n++] = static_cast<char>(v | 0x80), v >>= 7;
    buffer[n++] = static_cast<char>(v);
    out_.append(buffer, static_cast<std::size_t>(n));
  }
  void zigzag(std::int64_t v) {
    varint((static_cast<std::uint64_t>(v) << 1) ^ static_cast<std::uint64_t>(v >> 63));
  }
  void decimal(double v) { fixed(std::bit_cast<std::uint64_t>(v)); }
  void raw(std::string_view bytes) { out_.append(bytes); }
  void text(std::string_view t) {
    varint(t.size());
    raw(t);
  }

 private:
  template <class T>
  void fixed(T v) {
    char buffer[sizeof v];
    std::memcpy(buffer, &v, sizeof v);
    out_.append(buffer, sizeof v);
  }
  std::string& out_;
};

class ByteReader {
 public:
  explicit ByteReader(std::string_view bytes) : at_(bytes.data()), end_(bytes.data() + bytes.size()) {}
  bool ok() const { return ok_; }
  bool at_end() const { return at_ == end_; }
  std::size_t left() const { return static_cast<std::size_t>(end_ - at_); }
  std::string_view rest() const { return {at_, left()}; }
  void fail() { ok_ = false, at_ = end_; }
  std::uint8_t u8() { return fixed<std::uint8_t>(); }
  std::uint32_t u32() { return fixed<std::uint32_t>(); }
  std::uint64_t u64() { return fixed<std::uint64_t>(); }
  std::uint64_t varint() {
    if (at_ != end_ && static_cast<unsigned char>(*at_) < 0x80) return static_cast<unsigned char>(*at_++);
    return long_varint();
  }
  std::int64_t zigzag() {
    std::uint64_t v = varint();
    return static_cast<std::int64_t>(v >> 1) ^ -static_cast<std::int64_t>(v & 1);
  }
  double decimal() { return std::bit_cast<double>(u64()); }
  std::string_view text() { return bytes(varint()); }  // a view into what is read
  std::string_view bytes(std::uint64_t size) {
    if (size > left()) return fail(), std::string_view();
    std::string_view t(at_, size);
    at_ += size;
    return t;
  }
  // A count of things that take at least `each` bytes: fails when so many cannot follow.
  std::size_t count(std::size_t each = 1) {
    std::uint64_t n = varint();
    if (n > left() / each) return fail(), 0;
    return n;
  }

 private:
  std::uint64_t long_varint() {
    std::uint64_t v = 0;
    for (unsigned shift = 0; shift < 64; shift += 7) {
      if (at_ == end_) break;
      auto b = static_cast<unsigned char>(*at_++);
      v |= static_cast<std::uint64_t>(b & 0x7f) << shift;
      if (b < 0x80) return v;
    }
    fail();
    return 0;
  }
  template <class T>
  T fixed() {
    if (left() < sizeof(T)) return fail(), T{};
    T v;
    std::memcpy(&v, at_, sizeof v);
    at_ += sizeof v;
    return v;
  }
  const char* at_;
  const char* end_;
  bool ok_ = true;
};

}  // namespace dingle
