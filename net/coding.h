// Content codings of HTTP (RFC 9110, section 8.4.1): gzip, deflate, zstd (RFC 8878).
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

#include "core/result.h"

namespace dingle {

bool is_coding(std::string_view name);  // that is known; `identity` and "" are
// The text of a body with that coding. The problem has length 0 if the text is larger than `most` bytes, else the body has another
// form, or is cut off. Costs a window of 32 KiB (zstd: up to 16 MiB) besides the text.
Result<std::string> decoded(std::string_view coding, std::string_view body, std::size_t most);
// The text of zstd frames, with or without their size in them; problems as above.
Result<std::string> decompress_zstd(std::string_view bytes, std::size_t most);
std::string gzipped(std::string_view text);

}  // namespace dingle
