// Secrets that a configuration names: { env: NAME } or { file: PATH }. They are read when they are needed and
// are never printed.
#pragma once

#include <string>

#include "core/options/options.h"
#include "core/result.h"

namespace dingle {

// The secret under the option, without the newline at a file's end; "" if the option is not given. A secret
// that is empty is a problem: nobody means that. The problem names the variable or the file, not what it
// holds.
Result<std::string> read_secret(const Options& options, std::string_view name);
// The same for a token that clients show: one that is too short to keep anybody out is a problem as well.
inline constexpr std::size_t kShortestToken = 16;  // bytes
Result<std::string> read_token_at(const std::string& place);
// What the place of a secret ("env:NAME", "file:PATH") holds. A file is a regular one of at most 64 KiB.
Result<std::string> read_secret_at(const std::string& place);
// A number that changes when one of the secrets in the options does.
std::uint64_t fingerprint_of_secrets(const Options& options);

bool tokens_equal(std::string_view a, std::string_view b);  // in constant time, if they are as long

}  // namespace dingle
