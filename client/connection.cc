#include "client/connection.h"

#include <httplib.h>

#include <fstream>
#include <iostream>

namespace dingle {
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
  peer.token = first_word(client.data + "/token");
  peer.address = client.server.empty() ? first_word(client.data + "/address") : client.server;
  if (!peer.token.empty() && !peer.address.empty()) return true;
  std::cerr
      << "dingle: no token of a running dingled in the data folder " << client.data
      << "\n  = say where it is with --data FOLDER or the variable DINGLE_DATA; only its owner may read it\n";
  return false;
}

// `longest_answer`: seconds.
std::unique_ptr<httplib::Client> connect(const Peer& peer, time_t longest_answer = 120) {
  const bool tls = peer.address.starts_with("https://");
  auto http = std::make_unique<httplib::Client>(tls ? peer.address : "http://" + peer.address);
  // On this machine the address comes from the data folder, and no certificate names the loopback.
  if (tls && (peer.address.starts_with("https://127.0.0.1:") || peer.address.starts_with("https://[::1]:") ||
              peer.address.starts_with("https://0.0.0.0:")))
    http->enable_server_certificate_verification(false);
  http->set_bearer_token_auth(peer.token);
  http->set_connection_timeout(5, 0);
  http->set_read_timeout(longest_answer, 0);
  return http;
}

void print_error(const Json& body, int status, const Parameters& parameters) {
  const Json error = body.is_object() && body.contains("error") ? body["error"] : Json::object();
  std::cerr << "dingle: " << error.value("message", "the server answered " + std::to_string(status)) << "\n";
  auto it = parameters.find(error.value("parameter", ""));
  if (it != parameters.end() && error.contains("offset")) {
    std::cerr << "  " << it->second << "\n  " << std::string(error["offset"].get<std::size_t>(), ' ') << '^';
    for (std::size_t i = 1; i < error.value("length", std::size_t{1}); ++i) std::cerr << '~';
    std::cerr << "\n";
  }
  if (error.contains("hint")) std::cerr << "  = " << error["hint"].get<std::string>() << "\n";
}

void print_unreachable(const Peer& peer, httplib::Error error) {
  std::cerr << "dingle: no dingled answers at " << peer.address << " (" << httplib::to_string(error)
            << ")\n  = is it running? `dingled --config FILE` starts it\n";
}

std::string with_query(const std::string& path, const Parameters& parameters) {
  return parameters.empty() ? path
                            : path + "?" +
                                  httplib::detail::params_to_query_str(
                                      httplib::Params(parameters.begin(), parameters.end()));
}

}  // namespace

Answer call(const Client& client, const std::string& method, const std::string& path,
            const Parameters& parameters, bool print_problem, const std::string& body) {
  Answer answer;
  Peer peer;
  if (!find_peer(client, peer)) return answer;
  constexpr time_t kLongestSearch = 660;  // seconds; ten minutes at most, and then some
  auto http = parameters.count("within") ? connect(peer, kLongestSearch) : connect(peer);
  const std::string target = with_query(path, parameters);
  httplib::Result result = method == "GET"      ? http->Get(target)
                           : method == "DELETE" ? http->Delete(target)
                                                : http->Post(target, body, "application/json");
  if (!result) {
    print_unreachable(peer, result.error());
    return answer;
  }
  answer.status = result->status;
  answer.body = parse_json(result->body);
  answer.ok = result->status == 200 && !answer.body.is_discarded();
  if (!answer.ok && print_problem) print_error(answer.body, result->status, parameters);
  return answer;
}

int stream(const Client& client, const std::string& path, const Parameters& parameters,
           const std::function<bool(const std::string&)>& take) {
  Peer peer;
  if (!find_peer(client, peer)) return kFoundProblems;
  auto http = connect(peer);
  std::string rest;
  int status = 0;
  bool ended_here = false;
  auto result = http->Get(
      with_query(path, parameters).c_str(), httplib::Headers{},
      [&](const httplib::Response& response) {
        status = response.status;
        return true;
      },
      [&](const char* bytes, std::size_t size) {
        rest.append(bytes, size);
        if (status != 200) return true;
        std::size_t from = 0;
        for (std::size_t end; (end = rest.find('\n', from)) != std::string::npos; from = end + 1)
          if (end > from && !take(rest.substr(from, end - from))) {
            ended_here = true;
            return false;
          }
        rest.erase(0, from);
        return true;
      });
  if (ended_here) return kFine;
  if (status != 0 && status != 200) {
    print_error(parse_json(rest), status, parameters);
    return kFoundProblems;
  }
  if (!result) {
    print_unreachable(peer, result.error());
    return kFoundProblems;
  }
  return kFine;
}

}  // namespace dingle
