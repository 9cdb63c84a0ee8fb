#include "net/http.h"

#include <algorithm>

#include "core/json_text.h"

namespace dingle {
namespace {

char lower(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : c; }

bool same_name(std::string_view a, std::string_view b) {
  return a.size() == b.size() &&
         std::equal(a.begin(), a.end(), b.begin(), [](char x, char y) { return lower(x) == lower(y); });
}

int hex_digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  c = lower(c);
  return c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
}

}  // namespace

std::string_view HttpRequest::header(std::string_view name) const {
  for (const auto& [field, value] : headers)
    if (same_name(field, name)) return value;
  return {};
}

const char* reason_phrase(int status) {
  switch (status) {
    case 200: return "OK";
    case 202: return "Accepted";
    case 204: return "No Content";
    case 304: return "Not Modified";
    case 400: return "Bad Request";
    case 401: return "Unauthorized";
    case 403: return "Forbidden";
    case 404: return "Not Found";
    case 405: return "Method Not Allowed";
    case 408: return "Request Timeout";
    case 409: return "Conflict";
    case 413: return "Content Too Large";
    case 414: return "URI Too Long";
    case 415: return "Unsupported Media Type";
    case 417: return "Expectation Failed";
    case 421: return "Misdirected Request";
    case 422: return "Unprocessable Content";
    case 429: return "Too Many Requests";
    case 431: return "Request Header Fields Too Large";
    case 500: return "Internal Server Error";
    case 501: return "Not Implemented";
    case 503: return "Service Unavailable";
    case 505: return "HTTP Version Not Supported";
    default: return "";
  }
}

HttpAnswer problem_answer(const HttpProblem& p) {
  HttpAnswer answer{p.status, "application/problem+json"};
  std::string& out = answer.body;
  append_json_string(out += R"({"title":)", reason_phrase(p.status));
  append_json_string(out += R"(,"status":)" + std::to_string(p.status) + R"(,"detail":)", p.detail);
  if (!p.hint.empty()) append_json_string(out += R"(,"hint":)", p.hint);
  if (!p.parameter.empty()) append_json_string(out += R"(,"parameter":)", p.parameter);
  if (p.offset) out += R"(,"offset":)" + std::to_string(*p.offset);
  if (p.offset && p.length != 0) out += R"(,"length":)" + std::to_string(p.length);
  out += "}\n";
  if (p.status == 409 || p.status == 503) answer.headers.emplace_back("Retry-After", "1");
  return answer;
}

std::string percent_decoded(std::string_view text, bool form) {
  std::string out;
  out.reserve(text.size());
  for (std::size_t i = 0; i < text.size(); ++i) {
    const int high = text[i] == '%' && i + 2 < text.size() ? hex_digit(text[i + 1]) : -1;
    const int low = high >= 0 ? hex_digit(text[i + 2]) : -1;
    if (low >= 0)
      out += static_cast<char>(high * 16 + low), i += 2;
    else
      out += form && text[i] == '+' ? ' ' : text[i];
  }
  return out;
}

std::string percent_encoded(std::string_view text) {
  std::string out;
  for (const char c : text) {
    const bool plain = (c >= '0' && c <= '9') || (lower(c) >= 'a' && lower(c) <= 'z') || c == '-' ||
                       c == '.' || c == '_' || c == '~';
    if (plain) {
      out += c;
      continue;
    }
    constexpr const char* kDigits = "0123456789ABCDEF";
    const auto byte = static_cast<unsigned char>(c);
    out += '%', out += kDigits[byte >> 4], out += kDigits[byte & 15];
  }
  return out;
}

std::optional<std::multimap<std::string, std::string>> parameters_of(std::string_view query) {
  std::multimap<std::string, std::string> all;
  while (!query.empty()) {
    const std::string_view pair = query.substr(0, query.find('&'));
    query.remove_prefix(std::min(query.size(), pair.size() + 1));
    if (pair.empty()) continue;
    if (all.size() == kMostParameters) return std::nullopt;
    const std::size_t end = std::min(pair.find('='), pair.size());
    all.emplace(percent_decoded(pair.substr(0, end), true),
                percent_decoded(pair.substr(std::min(pair.size(), end + 1)), true));
  }
  return all;
}

std::string_view bearer_token(const HttpRequest& request) {
  std::string_view credentials = request.header("Authorization");
  constexpr std::string_view kScheme = "bearer ";
  if (!same_name(credentials.substr(0, kScheme.size()), kScheme)) return {};
  credentials.remove_prefix(kScheme.size());
  while (credentials.starts_with(' ')) credentials.remove_prefix(1);
  return credentials;
}

}  // namespace dingle
