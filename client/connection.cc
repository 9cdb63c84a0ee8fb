#include "client/connection.h"

#include <atomic>
#include <chrono>
#include <fstream>
#include <iostream>

#include "agent/destinations/http_call.h"
#include "core/options/options.h"
#include "net/http.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

struct Peer {
  std::string address, token;
};

bool find_peer(const Client& client, Peer& peer) {
  auto first_word = [](const std::string& path) {
    std::ifstream in(path);
    std::string word;
    in >> word;
    return word;
  };
  const std::string file = client.token.empty() ? client.data + "/token" : client.token;
  peer.token = first_word(file);
  peer.address = client.server.empty() ? first_word(client.data + "/address") : client.server;
  if (!peer.token.empty() && !peer.address.empty()) return true;
  if (!client.token.empty())
    std::cerr << (peer.token.empty() ? "dingle: no token in the file " + file + "\n"
                                     : "dingle: whose token is it?\n  = --server ADDRESS:PORT\n");
  else
    std::cerr << "dingle: no token of a running dingled in the data folder " << client.data
              << "\n  = say where it is with --data FOLDER or the variable DINGLE_DATA; only its owner may "
                 "read it\n";
  return false;
}

// How to call it; `longest`: until it must have answered, 0 for a stream.
HttpTarget target_of(const Peer& peer, const std::string& method, std::chrono::seconds longest) {
  HttpTarget target;
  target.method = method;
  target.bearer = peer.token;
  target.timeout = longest;
  target.direct = true;
  target.most_body = std::size_t{1} << 30;
  // On this machine the address comes from the data folder, and no certificate names the loopback.
  for (const char* here : {"https://127.0.0.1:", "https://[::1]:", "https://0.0.0.0:"})
    if (peer.address.starts_with(here)) target.verify = false;
  return target;
}

std::string url_of(const Peer& peer, const std::string& path, const std::string& query) {
  return (peer.address.starts_with("https://") ? "" : "http://") + peer.address + path +
         (query.empty() ? "" : "?" + query);
}

std::string query_of(const Parameters& parameters) {
  std::string all;
  for (const auto& [name, value] : parameters)
    all += (all.empty() ? "" : "&") + percent_encoded(name) + "=" + percent_encoded(value);
  return all;
}

constexpr std::size_t kLongQuery = 8000;  // bytes; longer ones go as a form
const char* content_type(bool form) {
  return form ? "Content-Type: application/x-www-form-urlencoded" : "Content-Type: application/json";
}

// A text as it was asked: a parameter, or a member of the JSON object that was sent.
std::string asked_text(const Parameters& parameters, const std::string& sent, const std::string& name) {
  if (const auto it = parameters.find(name); it != parameters.end()) return it->second;
  const Json members = parse_json(sent);
  return members.is_object() && members.contains(name) && members[name].is_string()
             ? members[name].get<std::string>()
             : "";
}

void print_error(const Json& body, int status, const Parameters& parameters, const std::string& sent) {
  const Json error = body.is_object() ? body : Json::object();
  std::cerr << "dingle: " << error.value("detail", "the server answered " + std::to_string(status)) << "\n";
  const std::string asked = asked_text(parameters, sent, error.value("parameter", ""));
  if (!asked.empty() && error.contains("offset")) {
    std::cerr << "  " << asked << "\n  " << std::string(error["offset"].get<std::size_t>(), ' ') << '^';
    for (std::size_t i = 1; i < error.value("length", std::size_t{1}); ++i) std::cerr << '~';
    std::cerr << "\n";
  }
  if (error.contains("hint")) std::cerr << "  = " << error["hint"].get<std::string>() << "\n";
}

void print_unreachable(const Peer& peer, const std::string& error) {
  std::cerr << "dingle: no dingled answers at " << peer.address << " (" << error
            << ")\n  = is it running? `dingled --config FILE` starts it\n";
}

}  // namespace

TextAnswer call_text(const Client& client, const std::string& method, const std::string& path,
                     const Parameters& parameters, bool print_problem, const std::string& body,
                     const char* type) {
  TextAnswer answer;
  Peer peer;
  if (!find_peer(client, peer)) return answer;
  constexpr auto kLongest = 120s, kLongestSearch = 660s;  // ten minutes at most, and then some
  const std::string query = query_of(parameters);
  const bool form = method == "GET" && query.size() > kLongQuery;
  const HttpTarget target =
      target_of(peer, form ? "POST" : method, parameters.count("within") ? kLongestSearch : kLongest);
  const std::atomic<bool> never{false};
  HttpReply reply = HttpConnection().call(target, url_of(peer, path, form ? "" : query),
                                          {form ? content_type(form) : std::string("Content-Type: ") + type},
                                          form ? query : body, never);
  if (!reply.error.empty()) {
    if (print_problem) print_unreachable(peer, reply.error);
    return answer;
  }
  answer.status = static_cast<int>(reply.status);
  answer.body = std::move(reply.body);
  answer.ok = reply.status >= 200 && reply.status < 300;
  if (!answer.ok && print_problem) print_error(parse_json(answer.body), answer.status, parameters, body);
  return answer;
}

Answer call(const Client& client, const std::string& method, const std::string& path,
            const Parameters& parameters, bool print_problem, const std::string& body, const char* type) {
  const TextAnswer text = call_text(client, method, path, parameters, print_problem, body, type);
  Answer answer{.ok = text.ok, .status = text.status, .body = parse_json(text.body)};
  if (answer.ok && answer.body.is_discarded()) {
    answer.ok = false;
    if (print_problem) print_error(answer.body, answer.status, parameters, body);
  }
  if (answer.ok && answer.body.is_object() && answer.body.contains("cut_at_bytes"))
    std::cerr << "note: this is not all: the answer had reached "
              << format_size(answer.body["cut_at_bytes"].get<std::uint64_t>()) << ", which is the most\n";
  return answer;
}

int stream(const Client& client, const std::string& path, const Parameters& parameters,
           const std::function<bool(const std::string&)>& take) {
  Peer peer;
  if (!find_peer(client, peer)) return kFoundProblems;
  std::string rest;
  const std::atomic<bool> never{false};
  const std::string query = query_of(parameters);
  const bool form = query.size() > kLongQuery;
  const HttpReply reply = HttpConnection().call(
      target_of(peer, form ? "POST" : "GET", 0s), url_of(peer, path, form ? "" : query), {content_type(form)},
      form ? query : "", never, [&](std::string_view bytes) {
        rest.append(bytes);
        std::size_t from = 0;
        for (std::size_t end; (end = rest.find('\n', from)) != std::string::npos; from = end + 1)
          if (end > from && !take(rest.substr(from, end - from))) return false;
        rest.erase(0, from);
        return true;
      });
  if (reply.status != 0 && reply.status != 200) {
    print_error(parse_json(reply.body), static_cast<int>(reply.status), parameters, "");
    return kFoundProblems;
  }
  if (!reply.error.empty()) {
    print_unreachable(peer, reply.error);
    return kFoundProblems;
  }
  return kFine;
}

}  // namespace dingle
