#include "client/text_file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#include <algorithm>
#include <cstring>
#include <string_view>

namespace dingle {
namespace {

constexpr std::size_t kPiece = 256 * 1024;
constexpr std::uint64_t kEnds = 64 * 1024;
constexpr int kGzip = 15 + 16;  // a window of 32 KiB, and the gzip header

// Of a size, and of the first and the last bytes, up to kEnds of each.
std::uint64_t hash_of(std::uint64_t size, std::string_view first, std::string_view last) {
  std::string bytes(reinterpret_cast<const char*>(&size), sizeof size);
  bytes.append(first).append(last);
  return XXH3_64bits(bytes.data(), bytes.size());
}

}  // namespace

TextFile::~TextFile() {
  if (inflates_) inflateEnd(&z_);
  if (fd_ >= 0) ::close(fd_);
}

std::string TextFile::open(const std::string& path) {
  fd_ = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  if (fd_ < 0) return std::strerror(errno);
  struct stat info;
  if (::fstat(fd_, &info) != 0) return std::strerror(errno);
  if (!S_ISREG(info.st_mode)) return S_ISDIR(info.st_mode) ? "it is a folder" : "it is no regular file";
  unsigned char magic[4] = {};
  const ssize_t n = ::pread(fd_, magic, sizeof magic, 0);
  if (n < 0) return std::strerror(errno);
  if (n >= 2 && magic[0] == 0x1f && magic[1] == 0x8b) form_ = Form::gzip;
  if (n >= 4 && magic[0] == 0x28 && magic[1] == 0xb5 && magic[2] == 0x2f && magic[3] == 0xfd)
    form_ = Form::zstd;
  rewind();
  return "";
}

TextFile::Identity TextFile::identity() const {
  struct stat info {};
  ::fstat(fd_, &info);
  const auto size = static_cast<std::uint64_t>(info.st_size);
  const auto bytes = [&](std::uint64_t from) {
    std::string some(std::min(size, kEnds), '\0');
    const ssize_t got = ::pread(fd_, some.data(), some.size(), static_cast<off_t>(from));
    some.resize(static_cast<std::size_t>(std::max<ssize_t>(got, 0)));
    return some;
  };
  return {size, hash_of(size, bytes(0), bytes(size - std::min(size, kEnds))), info.st_dev, info.st_ino};
}

std::optional<TextFile::Identity> TextFile::text_identity(std::vector<Rung>& rungs, std::string& problem,
                                                          const std::function<void()>& passed) {
  Identity identity = this->identity();
  const std::unique_ptr<XXH3_state_t, XXH_errorcode (*)(XXH3_state_t*)> hash(XXH3_createState(),
                                                                             XXH3_freeState);
  XXH3_64bits_reset(hash.get());
  auto rung = rungs.begin();
  std::string text;  // with some of what came before
  std::size_t before = 0;
  for (identity.size = 0; !at_end_;) {
    text.erase(0, text.size() - std::min<std::size_t>(text.size(), kRungBytes));
    before = text.size();
    if (!read(text, kPiece, problem)) return std::nullopt;
    XXH3_64bits_update(hash.get(), text.data() + before, text.size() - before);
    identity.size += text.size() - before;
    for (; rung != rungs.end() && rung->position <= identity.size; ++rung) {
      const std::uint64_t end = text.size() - (identity.size - rung->position);
      const std::uint64_t bytes = std::min(rung->position, kRungBytes);
      rung->hash = rung_hash(std::string_view(text).substr(end - bytes, bytes));
    }
    passed();
  }
  rewind();
  identity.hash = XXH3_64bits_digest(hash.get());
  return identity;
}

void TextFile::rewind() {
  offset_ = at_ = 0;
  in_.clear();
  file_ended_ = at_end_ = false;
  between_ = true;
  if (form_ == Form::gzip) {
    if (inflates_)
      inflateReset(&z_);
    else
      inflates_ = inflateInit2(&z_, kGzip) == Z_OK;
  } else if (form_ == Form::zstd) {
    zstd_.reset(ZSTD_createDStream());
    ZSTD_DCtx_setParameter(zstd_.get(), ZSTD_d_windowLogMax, 27);
  }
}

bool TextFile::fill(std::string& problem) {
  if (at_ < in_.size() || file_ended_) return true;
  in_.resize(kPiece);
  at_ = 0;
  const ssize_t n = ::pread(fd_, in_.data(), in_.size(), static_cast<off_t>(offset_));
  in_.resize(static_cast<std::size_t>(std::max<ssize_t>(n, 0)));
  if (n < 0) return problem = std::strerror(errno), false;
  offset_ += in_.size();
  file_ended_ = n == 0;
  return true;
}

// Decompress into `to`; `room` becomes how much was written.
bool TextFile::inflate_some(char* to, std::size_t& room, std::string& problem) {
  if (between_) inflateReset(&z_);
  z_.next_in = reinterpret_cast<Bytef*>(in_.data() + at_);
  z_.avail_in = static_cast<uInt>(in_.size() - at_);
  z_.next_out = reinterpret_cast<Bytef*>(to);
  z_.avail_out = static_cast<uInt>(room);
  const int code = inflate(&z_, Z_NO_FLUSH);
  at_ = in_.size() - z_.avail_in;
  room -= z_.avail_out;
  between_ = code == Z_STREAM_END;
  if (code == Z_OK || code == Z_STREAM_END || code == Z_BUF_ERROR) return true;
  problem = "damaged at byte " + std::to_string(bytes_read()) + (z_.msg ? std::string(": ") + z_.msg : "");
  return false;
}

bool TextFile::decompress_some(char* to, std::size_t& room, std::string& problem) {
  ZSTD_inBuffer in{in_.data() + at_, in_.size() - at_, 0};
  ZSTD_outBuffer out{to, room, 0};
  const std::size_t left = ZSTD_decompressStream(zstd_.get(), &out, &in);
  at_ += in.pos;
  room = out.pos;
  if (ZSTD_isError(left)) {
    problem = "damaged at byte " + std::to_string(bytes_read()) + ": " + ZSTD_getErrorName(left);
    return false;
  }
  between_ = left == 0;
  return true;
}

bool TextFile::read(std::string& text, std::size_t most, std::string& problem) {
  const std::size_t until = text.size() + most;
  while (text.size() < until && !at_end_) {
    if (!fill(problem)) return false;
    const std::size_t had = text.size();
    std::size_t room = std::min(until - had, kPiece);
    if (form_ == Form::plain) {
      room = std::min(room, in_.size() - at_);
      text.append(in_.data() + at_, room);
      at_ += room;
      at_end_ = file_ended_ && room == 0;
      continue;
    }
    if (file_ended_ && between_) return at_end_ = true, true;
    text.resize(had + room);
    const bool fine = form_ == Form::gzip ? inflate_some(text.data() + had, room, problem)
                                          : decompress_some(text.data() + had, room, problem);
    text.resize(had + (fine ? room : 0));
    if (!fine) return false;
    if (file_ended_ && room == 0 && !between_) return problem = "its end is cut off", false;
  }
  return true;
}

bool TextFile::skip(std::uint64_t bytes, std::string& problem) {
  if (form_ == Form::plain) return offset_ = bytes, true;
  std::string passed;
  while (bytes > 0) {
    passed.clear();
    if (!read(passed, std::min<std::uint64_t>(bytes, kPiece), problem)) return false;
    if (passed.empty()) return problem = "it holds less text than was imported of it", false;
    bytes -= passed.size();
  }
  return true;
}

}  // namespace dingle
