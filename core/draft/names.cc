#include "core/draft/names.h"

#include <algorithm>
#include <array>
#include <vector>

#include "core/ascii.h"

namespace dingle {
namespace {

using Form = Token::Form;

struct Known {
  std::string_view key, name;
};
// Keys that logs use, and what the semantic conventions of OpenTelemetry call them.
constexpr Known kKnown[] = {{"pid", "process.pid"},
                            {"tid", "thread.id"},
                            {"thread", "thread.name"},
                            {"hostname", "host"},  // host.name and service.name are what the source says
                            {"function", "code.function.name"},
                            {"file", "code.file.path"},
                            {"line", "code.line.number"},
                            {"level", "severity"},
                            {"lvl", "severity"},
                            {"severity", "severity"},
                            {"msg", "message"},
                            {"message", "message"},
                            {"trace", "trace_id"},
                            {"trace_id", "trace_id"},
                            {"traceid", "trace_id"},
                            {"span", "span_id"},
                            {"span_id", "span_id"},
                            {"spanid", "span_id"},
                            {"user", "user.name"},
                            {"username", "user.name"},
                            {"client", "client.address"},
                            {"remote", "client.address"},
                            {"peer", "client.address"},
                            {"rhost", "client.address"},
                            {"rip", "client.address"},
                            {"rport", "client.port"},
                            {"lip", "server.address"},
                            {"lport", "server.port"},
                            {"src", "source.address"},
                            {"dst", "destination.address"},
                            {"spt", "source.port"},
                            {"dpt", "destination.port"},
                            {"server", "server.address"},
                            {"method", "http.request.method"},
                            {"path", "url.path"},
                            {"url", "url.full"},
                            {"status", "status"},
                            {"took", "duration"},
                            {"elapsed", "duration"},
                            {"duration", "duration"},
                            {"time", "at"},
                            {"timestamp", "at"},
                            {"ts", "at"}};

// Words that say nothing about the value behind them.
constexpr std::string_view kEmptyWords[] = {
    "to",  "at",  "in",   "of",   "for", "from", "by",   "is",   "are",   "was",    "with",  "on",   "and",
    "or",  "the", "a",    "an",   "as",  "has",  "have", "no",   "not",   "than",   "then",  "over", "into",
    "via", "be",  "been", "will", "it",  "its",  "this", "that", "after", "before", "until", "since"};

std::string lower(std::string_view text) {
  std::string out(text);
  std::transform(out.begin(), out.end(), out.begin(),
                 [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : c; });
  return out;
}

// The words of a literal text, in order.
std::vector<std::string_view> words_of(std::string_view text) {
  std::vector<std::string_view> words;
  for (std::size_t i = 0; i < text.size();) {
    std::size_t end = i;
    while (end < text.size() &&
           (is_letter(text[end]) || text[end] == '_' ||
            (end > i && (text[end] == '-' || text[end] == '.' || (text[end] >= '0' && text[end] <= '9')))))
      ++end;
    if (end > i) words.push_back(text.substr(i, end - i));
    i = std::max(end, i + 1);
  }
  return words;
}

bool empty_word(std::string_view word) {
  return std::find(std::begin(kEmptyWords), std::end(kEmptyWords), lower(word)) != std::end(kEmptyWords);
}

}  // namespace

std::string DraftNames::conventional(std::string_view key) {
  std::string name = lower(key);
  std::replace_if(
      name.begin(), name.end(),
      [](char c) { return !is_letter(c) && !(c >= '0' && c <= '9') && c != '_' && c != '.'; }, '_');
  while (!name.empty() && !is_letter(name[0]) && name[0] != '_') name.erase(0, 1);
  while (!name.empty() && (name.back() == '_' || name.back() == '.')) name.pop_back();
  for (const Known& known : kKnown)
    if (known.key == name) return std::string(known.name);
  return name;
}

std::string DraftNames::unique(const std::string& name) {
  std::string result = name;
  for (int n = 2; !taken_.insert(result).second; ++n) result = name + std::to_string(n);
  return result;
}

std::string DraftNames::name_for(const Token& token, std::string_view before, std::string_view after) {
  // A key right before it: key=value, key: value, "key":value.
  std::string_view text = before;
  while (!text.empty() && (text.back() == ' ' || text.back() == '"' || text.back() == '\'' ||
                           text.back() == '[' || text.back() == '(' || text.back() == '<'))
    text.remove_suffix(1);
  if (!text.empty() && (text.back() == '=' || text.back() == ':')) {
    text.remove_suffix(1);
    const auto words = words_of(text);
    if (!words.empty() && words.back().data() + words.back().size() == text.data() + text.size() &&
        words.back().size() > 1) {
      const std::string name = conventional(words.back());
      if (!name.empty() && !(token.kind != Form::time && name == "at")) return unique(name);
    }
  }
  // What its type says.
  switch (token.kind) {
    case Form::time: return unique("at");
    case Form::trace_id: return unique("trace_id");
    case Form::span_id: return unique("span_id");
    case Form::uri: return unique("url.full");
    case Form::email: return unique("user.email");
    case Form::mac: return unique("mac");
    default: break;
  }
  // A word beside it.
  if (const std::size_t sign = before.find_last_of("|;)]}>,");
      sign != std::string_view::npos && token.kind != Form::ip)
    before = before.substr(sign + 1);  // what stands before a separator belongs to another value
  const auto words = words_of(before);
  std::string name;
  for (auto word = words.rbegin(); word != words.rend() && name.empty(); ++word)
    if (!empty_word(*word) && word->size() > 1) name = conventional(*word);
  if (token.kind == Form::ip) {
    const bool second = taken("client.address") || before.find("to ") != std::string_view::npos;
    last_address_ = unique(second ? "server.address" : "client.address");
    return last_address_;
  }
  if (token.kind == Form::integer && (before == ":" || before == "#") && last_address_.ends_with(".address"))
    return unique(last_address_.substr(0, last_address_.size() - 7) + "port");
  if (before.ends_with("[") && (token.kind == Form::word || token.kind == Form::dotted) && taken("severity"))
    return unique("thread.name");
  if (token.kind == Form::integer && before.ends_with("[") && !after.empty() && after[0] == ']')
    return unique("process.pid");
  if (name.empty() || name == "message") {
    const auto behind = words_of(after.substr(0, 24));
    if (!behind.empty() && after[0] == ' ' && !empty_word(behind[0]) && token.kind == Form::integer &&
        behind[0].find('.') == std::string_view::npos)
      name = conventional(behind[0]);
  }
  const bool number = token.kind == Form::integer || token.kind == Form::decimal;
  if (token.kind == Form::hex && name.ends_with(".address")) name.resize(name.size() - 8);
  if (number && (name.ends_with(".address") || name.ends_with(".name") || name == "severity" || name == "at"))
    name = "number";  // the conventions mean something else by that word
  if (token.kind == Form::duration) {
    // The word right before it, if it says anything: held 8 h.
    const bool beside = !words.empty() && words.back().size() > 2 && !empty_word(words.back()) &&
                        before.ends_with(std::string(words.back()) + " ");
    return unique(beside ? conventional(words.back()) : "duration");
  }
  if (token.kind == Form::size) return unique(name.empty() ? "size" : name);
  if (token.kind == Form::percent) return unique(name.empty() ? "percent" : name);
  if (token.kind == Form::path) return unique(name.empty() || empty_word(name) ? "url.path" : name);
  if (token.kind == Form::uuid) return unique(name.empty() ? "id" : name);
  if (token.kind == Form::json) return unique("payload");
  if (!name.empty()) return unique(name);
  switch (token.kind) {
    case Form::integer:
    case Form::hex: return unique("number");
    case Form::decimal: return unique("value");
    case Form::quoted: return unique("text");
    case Form::dotted: return unique("logger");
    default: return unique("name");
  }
}

}  // namespace dingle
