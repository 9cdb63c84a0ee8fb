// Events as zstd frames.
#include <zstd.h>

#include <algorithm>

#include "spool/spool.h"

namespace dingle {

std::string compress_events(std::string_view events) {
  std::string out(ZSTD_compressBound(events.size()), '\0');
  out.resize(ZSTD_compress(out.data(), out.size(), events.data(), events.size(), 1));
  return out;
}

std::string decompress_events(std::string_view frame) {
  const unsigned long long size = ZSTD_getFrameContentSize(frame.data(), frame.size());
  if (size == ZSTD_CONTENTSIZE_ERROR || size == ZSTD_CONTENTSIZE_UNKNOWN || size > kLargestPayload) return "";
  // What the frame says of its size is believed as far as bytes come.
  ZSTD_DCtx* const context = ZSTD_createDCtx();
  std::string out;
  ZSTD_inBuffer in{frame.data(), frame.size(), 0};
  std::size_t left = 1;
  for (std::size_t have = 0; context != nullptr && left != 0;) {
    out.resize(std::min<std::size_t>(size, std::max<std::size_t>({2 * have, 8 * frame.size(), 64 * 1024})));
    ZSTD_outBuffer to{out.data(), out.size(), have};
    left = ZSTD_decompressStream(context, &to, &in);
    if (ZSTD_isError(left) || (to.pos == have && in.pos == in.size && left != 0)) break;
    if (to.pos == have && have == size && left != 0) break;  // more than it said
    have = to.pos;
  }
  ZSTD_freeDCtx(context);
  return left != 0 || in.pos != in.size || out.size() != size ? "" : out;
}

}  // namespace dingle
