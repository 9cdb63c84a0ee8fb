// Compressing what goes to destinations. Outputs of several calls, one after another, are one valid file or
// body: members of gzip (RFC 1952), frames of zstd (RFC 8878).
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "core/result.h"

namespace dingle {

enum class Compression : std::uint8_t { none, gzip, zstd };

Compression compression_named(std::string_view name);  // "none", "gzip", "zstd"
const char* content_coding(Compression compression);   // of HTTP; "" for none
const char* file_extension(Compression compression);   // ".gz", ".zst"; "" for none
std::string compress(Compression compression, std::string_view bytes);
// The text of zstd frames, with or without their size in them. The problem has length 0 if the text is larger
// than `most`, else the bytes are no such frames, or do not end with one.
Result<std::string> decompress_zstd(std::string_view bytes, std::size_t most);
// The length of the whole members or frames at the beginning of a file, or of whole lines if it is not
// compressed: what is behind was cut off by a crash.
std::size_t whole_length(Compression compression, std::string_view file);

}  // namespace dingle
