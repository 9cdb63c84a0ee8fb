// A file's text from the beginning to the end: as it is, or decompressed from gzip (RFC 1952) or zstd (RFC 8878), as its first
// bytes say.
#pragma once

#include <zlib.h>
#include <zstd.h>

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/rung.h"

namespace dingle {

class TextFile {
 public:
  TextFile() = default;
  ~TextFile();
  TextFile(const TextFile&) = delete;
  TextFile& operator=(const TextFile&) = delete;

  // What is in the way, or "". A path that is no regular file cannot be opened.
  std::string open(const std::string& path);
  struct Identity {
    std::uint64_t size = 0,
                  hash = 0;  // of its size, and of its first and last 64 KiB; of a text: of all of it
    std::uint64_t device = 0, inode = 0;
    friend bool operator==(const Identity&, const Identity&) = default;
  };
  Identity identity() const;  // of its bytes, as they are now
  // Of its text, equal for a file and for each compressed copy of it. Reads it from its beginning to its end, and rewinds; calls
  // `passed` now and then. `rungs`: positions in the text, ascending; they get their hashes, as far as the text goes. Nothing, with
  // the problem, if it cannot be read.
  std::optional<Identity> text_identity(std::vector<Rung>& rungs, std::string& problem,
                                        const std::function<void()>& passed);

  // Adds up to so many bytes of text. False with the problem, if what follows cannot be read.
  bool read(std::string& text, std::size_t most, std::string& problem);
  bool at_end() const { return at_end_; }
  bool skip(std::uint64_t bytes, std::string& problem);  // of text
  void rewind();
  std::uint64_t bytes_read() const { return offset_ - (in_.size() - at_); }  // of the file

 private:
  bool fill(std::string& problem);
  bool inflate_some(char* to, std::size_t& room, std::string& problem);
  bool decompress_some(char* to, std::size_t& room, std::string& problem);

  enum class Form { plain, gzip, zstd } form_ = Form::plain;
  int fd_ = -1;
  std::uint64_t offset_ = 0;  // of what is read next
  std::vector<char> in_;      // bytes of the file; those from `at_` on were not used yet
  std::size_t at_ = 0;
  bool file_ended_ = false, at_end_ = false;
  bool between_ = true;  // members or frames
  z_stream z_{};
  bool inflates_ = false;
  std::unique_ptr<ZSTD_DStream, std::size_t (*)(ZSTD_DStream*)> zstd_{nullptr, ZSTD_freeDStream};
};

}  // namespace dingle
