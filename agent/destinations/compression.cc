#include "agent/destinations/compression.h"

#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <memory>

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
  std::string out;
  if (c == Compression::zstd) {
    out.resize(ZSTD_compressBound(bytes.size()));
    out.resize(ZSTD_compress(out.data(), out.size(), bytes.data(), bytes.size(), 3));
    return out;
  }
  constexpr int kGzip = 15 + 16;  // a window of 32 KiB, and the gzip header
  z_stream z{};
  deflateInit2(&z, Z_BEST_SPEED, Z_DEFLATED, kGzip, 8, Z_DEFAULT_STRATEGY);
  out.resize(deflateBound(&z, bytes.size()));
  z.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(bytes.data()));
  z.avail_in = static_cast<uInt>(bytes.size());
  z.next_out = reinterpret_cast<Bytef*>(out.data());
  z.avail_out = static_cast<uInt>(out.size());
  deflate(&z, Z_FINISH);
  out.resize(z.total_out);
  deflateEnd(&z);
  return out;
}

Result<std::string> decompress_zstd(std::string_view bytes, std::size_t most) {
  const std::unique_ptr<ZSTD_DStream, std::size_t (*)(ZSTD_DStream*)> stream(ZSTD_createDStream(),
                                                                             ZSTD_freeDStream);
  ZSTD_DCtx_setParameter(stream.get(), ZSTD_d_windowLogMax, 24);
  std::string out;
  ZSTD_inBuffer in{bytes.data(), bytes.size(), 0};
  std::size_t left = 0;  // 0: a frame ends here
  while (in.pos < in.size) {
    const std::size_t had = out.size(), at = in.pos;
    if (had > most) return Problem{"the text is too large", "", 0, 0};
    out.resize(had + ZSTD_DStreamOutSize());
    ZSTD_outBuffer to{out.data() + had, out.size() - had, 0};
    left = ZSTD_decompressStream(stream.get(), &to, &in);
    out.resize(had + to.pos);
    if (ZSTD_isError(left))
      return Problem{std::string("not zstd: ") + ZSTD_getErrorName(left), "", in.pos, 1};
    if (in.pos == at && to.pos == 0) break;
  }
  if (out.size() > most) return Problem{"the text is too large", "", 0, 0};
  if (left != 0) return Problem{"not zstd: the last frame is cut off", "", bytes.size(), 1};
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
