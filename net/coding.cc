#include "net/coding.h"

#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <memory>

namespace dingle {
namespace {

constexpr int kGzip = 15 + 16;    // a window of 32 KiB, and the gzip header
constexpr int kEither = 15 + 32;  // gzip's or zlib's header

Problem too_large() { return {"the text is too large", "", 0, 0}; }

// Members of gzip, one after another; or one of zlib.
Result<std::string> inflated(std::string_view coding, std::string_view bytes, std::size_t most) {
  const std::string name(coding);
  z_stream z{};
  if (inflateInit2(&z, kEither) != Z_OK) return Problem{"no memory to decompress it", "", 0, 0};
  const std::unique_ptr<z_stream, int (*)(z_stream*)> end(&z, inflateEnd);
  std::string out;
  std::size_t at = 0;
  int code = Z_STREAM_END;
  while (at < bytes.size()) {
    constexpr std::size_t kPiece = 64 * 1024;
    if (code == Z_STREAM_END && at != 0) inflateReset(&z);
    const std::size_t had = out.size();
    if (had > most) return too_large();
    out.resize(had + kPiece);
    z.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(bytes.data() + at));
    z.avail_in = static_cast<uInt>(std::min<std::size_t>(bytes.size() - at, UINT32_MAX));
    const uInt given = z.avail_in;
    z.next_out = reinterpret_cast<Bytef*>(out.data() + had);
    z.avail_out = kPiece;
    code = inflate(&z, Z_NO_FLUSH);
    at += given - z.avail_in;
    out.resize(had + kPiece - z.avail_out);
    if (code != Z_OK && code != Z_STREAM_END && code != Z_BUF_ERROR)
      return Problem{"not " + name + ": " + (z.msg ? z.msg : "damaged"), "", at, 1};
    if (given == z.avail_in && out.size() == had) break;
  }
  // What one call had no room for.
  while (code == Z_OK && out.size() <= most) {
    const std::size_t had = out.size();
    constexpr std::size_t kPiece = 64 * 1024;
    out.resize(had + kPiece);
    z.next_out = reinterpret_cast<Bytef*>(out.data() + had);
    z.avail_out = kPiece;
    code = inflate(&z, Z_NO_FLUSH);
    out.resize(had + kPiece - z.avail_out);
    if (out.size() == had) break;
  }
  if (out.size() > most) return too_large();
  if (code != Z_STREAM_END) return Problem{"not " + name + ": its end is cut off", "", bytes.size(), 1};
  return out;
}

}  // namespace

bool is_coding(std::string_view name) {
  return name.empty() || name == "identity" || name == "gzip" || name == "deflate" || name == "zstd";
}

Result<std::string> decoded(std::string_view coding, std::string_view body, std::size_t most) {
  if (coding == "zstd") return decompress_zstd(body, most);
  if (coding == "gzip" || coding == "deflate") return inflated(coding, body, most);
  if (body.size() > most) return too_large();
  return std::string(body);
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
    if (had > most) return too_large();
    out.resize(had + ZSTD_DStreamOutSize());
    ZSTD_outBuffer to{out.data() + had, out.size() - had, 0};
    left = ZSTD_decompressStream(stream.get(), &to, &in);
    out.resize(had + to.pos);
    if (ZSTD_isError(left))
      return Problem{std::string("not zstd: ") + ZSTD_getErrorName(left), "", in.pos, 1};
    if (in.pos == at && to.pos == 0) break;
  }
  if (out.size() > most) return too_large();
  if (left != 0) return Problem{"not zstd: the last frame is cut off", "", bytes.size(), 1};
  return out;
}

std::string gzipped(std::string_view text) {
  z_stream z{};
  deflateInit2(&z, Z_BEST_SPEED, Z_DEFLATED, kGzip, 8, Z_DEFAULT_STRATEGY);
  std::string out(deflateBound(&z, text.size()), '\0');
  z.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(text.data()));
  z.avail_in = static_cast<uInt>(text.size());
  z.next_out = reinterpret_cast<Bytef*>(out.data());
  z.avail_out = static_cast<uInt>(out.size());
  deflate(&z, Z_FINISH);
  out.resize(z.total_out);
  deflateEnd(&z);
  return out;
}

}  // namespace dingle
