#include "agent/destinations/compression.h"

#include <zlib.h>
#include <zstd.h>

#include <algorithm>

#include "net/coding.h"

namespace dingle {

Compression compression_named(std::string_view name) {
  return name == "gzip" ? Compression::gzip : name == "zstd" ? Compression::zstd : Compression::none;
}

const char* content_coding(Compression c) {
  return c == Compression::gzip ? "gzip" : c == Compression::zstd ? "zstd" : "";
}

const char* file_extension(Compression c) {
  return c == Compression::gzip ? ".gz" : c == Compression::zstd ? ".zst" : "";
}

std::string compress(Compression c, std::string_view bytes) {
  if (c == Compression::none) return std::string(bytes);
  if (c == Compression::gzip) return gzipped(bytes);
  std::string out(ZSTD_compressBound(bytes.size()), '\0');
  out.resize(ZSTD_compress(out.data(), out.size(), bytes.data(), bytes.size(), 3));
  return out;
}

std::size_t whole_length(Compression c, std::string_view file) {
  if (c == Compression::none) {
    const std::size_t newline = file.rfind('\n');
    return newline == std::string_view::npos ? 0 : newline + 1;
  }
  std::size_t whole = 0;
  if (c == Compression::zstd) {
    while (whole < file.size()) {
      const std::size_t size = ZSTD_findFrameCompressedSize(file.data() + whole, file.size() - whole);
      if (ZSTD_isError(size)) break;
      whole += size;
    }
    return whole;
  }
  std::string sink(1 << 16, '\0');
  while (whole < file.size()) {
    z_stream z{};
    inflateInit2(&z, 15 + 16);
    z.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(file.data() + whole));
    z.avail_in = static_cast<uInt>(std::min<std::size_t>(file.size() - whole, UINT32_MAX));
    int code = Z_OK;
    while (code == Z_OK) {
      z.next_out = reinterpret_cast<Bytef*>(sink.data());
      z.avail_out = static_cast<uInt>(sink.size());
      code = inflate(&z, Z_NO_FLUSH);
      if (code == Z_OK && z.avail_in == 0 && z.avail_out != 0) break;  // it ends before its member does
    }
    const std::size_t member = z.total_in;
    inflateEnd(&z);
    if (code != Z_STREAM_END) break;
    whole += member;
  }
  return whole;
}

}  // namespace dingle
