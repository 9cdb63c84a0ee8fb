// A set of bytes. Classes of patterns are ASCII, plus every byte from 0x80 where text is meant.
#pragma once

#include <bitset>
#include <string>
#include <string_view>

namespace dingle {

class ByteClass {
 public:
  ByteClass() = default;
  static ByteClass of(std::string_view bytes) {
    ByteClass c;
    for (char b : bytes) c.set_.set(static_cast<unsigned char>(b));
    return c;
  }
  static ByteClass range(unsigned first, unsigned last) {
    ByteClass c;
    for (unsigned b = first; b <= last; ++b) c.set_.set(b);
    return c;
  }
  static ByteClass any() { return range(0, 255); }
  bool has(unsigned char b) const { return set_[b]; }
  bool all() const { return set_.all(); }
  bool empty() const { return set_.none(); }
  bool meets(const ByteClass& other) const { return (set_ & other.set_).any(); }
  ByteClass operator|(const ByteClass& o) const { return ByteClass(set_ | o.set_); }
  ByteClass operator&(const ByteClass& o) const { return ByteClass(set_ & o.set_); }
  ByteClass operator~() const { return ByteClass(~set_); }

 private:
  explicit ByteClass(std::bitset<256> set) : set_(set) {}
  std::bitset<256> set_;
};

namespace classes {
inline ByteClass digits() { return ByteClass::range('0', '9'); }
inline ByteClass letters() { return ByteClass::range('a', 'z') | ByteClass::range('A', 'Z'); }
inline ByteClass hex() { return digits() | ByteClass::range('a', 'f') | ByteClass::range('A', 'F'); }
inline ByteClass blanks() { return ByteClass::of(" \t"); }
inline ByteClass spaces() { return ByteClass::of(" \t\r\n\v\f"); }
inline ByteClass beyond_ascii() { return ByteClass::range(0x80, 0xFF); }
}  // namespace classes

}  // namespace dingle
