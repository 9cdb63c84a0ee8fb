// Compressing what goes to destinations. Outputs of several calls, one after another, are one valid file or
// body: members of gzip (RFC 1952), frames of zstd (RFC 8878).
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace dingle {

enum class Compression : std::uint8_t { none, gzip, zstd };

Compression compression_named(std::string_view name);  // "none", "gzip", "zstd"
const char* content_coding(Compression compression);   // of HTTP; "" for none
const char* file_extension(Compression compression);   // ".gz", ".zst"; "" for none
std::string compress(Compression compression, std::string_view bytes);
// The length of the whole members or frames at the beginning of a file, or of whole lines if it is not
// compressed: what is behind was cut off by a crash.
std::size_t whole_length(Compression compression, std::string_view file);

}  // namespace dingle
