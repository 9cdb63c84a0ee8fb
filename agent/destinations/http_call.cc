#include "agent/destinations/http_call.h"

#include <curl/curl.h>

#include <algorithm>

#include "agent/destinations/late_library.h"

// libcurl is loaded at first use. Its headers wrap this function in a macro that checks types; a plain call
// does not.
#undef curl_easy_setopt
#undef curl_easy_getinfo
#define CURL_LATE(name) DINGLE_LATE("libcurl.so.4", name)

namespace dingle {
namespace {

struct Coming {
  HttpReply& reply;
  const std::size_t most;
  const HttpConnection::Take& take;
  CURL* curl;
  bool enough = false;
};

// What comes behind the largest answer is read and thrown away: whether the request was taken is known already.
std::size_t keep_answer(char* bytes, std::size_t size, std::size_t n, void* to) {
  auto& coming = *static_cast<Coming*>(to);
  long status = 0;
  if (coming.take) CURL_LATE(curl_easy_getinfo)(coming.curl, CURLINFO_RESPONSE_CODE, &status);
  if (status == 200) {
    coming.enough = !coming.take({bytes, size * n});
    return coming.enough ? 0 : size * n;
  }
  std::string& out = coming.reply.body;
  out.append(bytes, std::min(size * n, coming.most - out.size()));
  return size * n;
}

std::size_t keep_header(char* bytes, std::size_t size, std::size_t n, void* to) {
  constexpr std::size_t kMostHeaders = 100;
  auto& headers = static_cast<Coming*>(to)->reply.headers;
  std::string_view line(bytes, size * n);
  while (line.ends_with('\n') || line.ends_with('\r')) line.remove_suffix(1);
  if (line.starts_with("HTTP/")) headers.clear();  // an interim answer was before it
  if (headers.size() < kMostHeaders && line.find(':') != std::string_view::npos) headers.emplace_back(line);
  return size * n;
}

int stop_if_cancelled(void* flag, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
  return static_cast<const std::atomic<bool>*>(flag)->load() ? 1 : 0;
}

}  // namespace

HttpConnection::HttpConnection() {
  static const CURLcode global = CURL_LATE(curl_global_init)(CURL_GLOBAL_DEFAULT);
  curl_ = global == CURLE_OK ? CURL_LATE(curl_easy_init)() : nullptr;
}
HttpConnection::~HttpConnection() { CURL_LATE(curl_easy_cleanup)(curl_); }

HttpReply HttpConnection::call(const HttpTarget& target, const std::string& url,
                               const std::vector<std::string>& headers, std::string_view body,
                               const std::atomic<bool>& cancelled, const Take& take) {
  HttpReply reply;
  CURL* c = curl_;
  curl_slist* list = CURL_LATE(curl_slist_append)(nullptr, "Expect:");
  for (const std::string& header : headers) list = CURL_LATE(curl_slist_append)(list, header.c_str());
  if (!target.bearer.empty())
    list = CURL_LATE(curl_slist_append)(list, ("Authorization: Bearer " + target.bearer).c_str());
  char error[CURL_ERROR_SIZE] = "";
  CURL_LATE(curl_easy_reset)(c);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_URL, url.c_str());
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_PROTOCOLS_STR, "http,https");
  if (target.method != "GET") {
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_CUSTOMREQUEST, target.method.c_str());
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_POSTFIELDS, body.data());
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_POSTFIELDSIZE_LARGE, static_cast<curl_off_t>(body.size()));
  }
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_HTTPHEADER, list);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_NOSIGNAL, 1L);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_USERAGENT, "dingle");
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_ERRORBUFFER, error);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_TIMEOUT_MS, static_cast<long>(target.timeout.count()));
  CURL_LATE(curl_easy_setopt)
  (c, CURLOPT_CONNECTTIMEOUT_MS,
   static_cast<long>(target.timeout.count() == 0 ? 10'000
                                                 : std::min<std::int64_t>(10'000, target.timeout.count())));
  if (target.direct) CURL_LATE(curl_easy_setopt)(c, CURLOPT_PROXY, "");
  if (!target.ca.empty()) CURL_LATE(curl_easy_setopt)(c, CURLOPT_CAINFO, target.ca.c_str());
  if (!target.certificate.empty())
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_SSLCERT, target.certificate.c_str());
  if (!target.key.empty()) CURL_LATE(curl_easy_setopt)(c, CURLOPT_SSLKEY, target.key.c_str());
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_SSL_VERIFYPEER, target.verify ? 1L : 0L);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_SSL_VERIFYHOST, target.verify ? 2L : 0L);
  if (!target.user.empty()) {
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_HTTPAUTH, CURLAUTH_BASIC);
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_USERNAME, target.user.c_str());
    CURL_LATE(curl_easy_setopt)(c, CURLOPT_PASSWORD, target.password.c_str());
  }
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_WRITEFUNCTION, keep_answer);
  Coming coming{reply, target.most_body, take, c};
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_WRITEDATA, &coming);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_HEADERFUNCTION, keep_header);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_HEADERDATA, &coming);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_NOPROGRESS, 0L);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_XFERINFOFUNCTION, stop_if_cancelled);
  CURL_LATE(curl_easy_setopt)(c, CURLOPT_XFERINFODATA, const_cast<std::atomic<bool>*>(&cancelled));
  const CURLcode code = CURL_LATE(curl_easy_perform)(c);
  CURL_LATE(curl_slist_free_all)(list);
  if (code != CURLE_OK && !coming.enough) {
    reply.error = *error ? error : CURL_LATE(curl_easy_strerror)(code);
    curl_off_t reached = 0;  // microseconds until a request could be sent
    CURL_LATE(curl_easy_getinfo)(c, CURLINFO_PRETRANSFER_TIME_T, &reached);
    reply.too_slow = code == CURLE_OPERATION_TIMEDOUT && reached > 0;
    return reply;
  }
  CURL_LATE(curl_easy_getinfo)(c, CURLINFO_RESPONSE_CODE, &reply.status);
  curl_off_t retry_after = 0;
  CURL_LATE(curl_easy_getinfo)(c, CURLINFO_RETRY_AFTER, &retry_after);
  reply.retry_after = std::chrono::seconds(std::min<curl_off_t>(retry_after, 3600));
  return reply;
}

std::string HttpReply::header(std::string_view name) const {
  const auto lower = [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : c; };
  for (const std::string& line : headers) {
    const std::size_t colon = line.find(':');
    if (colon != name.size() || !std::equal(name.begin(), name.end(), line.begin(),
                                            [&](char a, char b) { return lower(a) == lower(b); }))
      continue;
    return line.substr(std::min(line.size(), line.find_first_not_of(' ', colon + 1)));
  }
  return "";
}

OptionSpec tls_option() {
  return {
      .name = "tls",
      .type = OptionType::section,
      .text = "For https.",
      .section = {{.name = "ca", .type = OptionType::text, .text = "File of trusted certificates (PEM)."},
                  {.name = "certificate", .type = OptionType::text, .text = "File of our own certificate."},
                  {.name = "key", .type = OptionType::text, .text = "File of its key."},
                  {.name = "verify",
                   .type = OptionType::boolean,
                   .fallback = "true",
                   .text = "Whether the server's certificate must be valid."}}};
}

void read_tls(const Options& section, HttpTarget& target) {
  target.ca = section.text("ca");
  target.certificate = section.text("certificate");
  target.key = section.text("key");
  target.verify = section.flag("verify");
}

}  // namespace dingle
