#include "server/api_server.h"

#include "agent/secret.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/handover.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

// Workers: what is quick does not wait for what may take minutes, nor for what agents send.
constexpr std::size_t kQuick = 4, kLong = 12, kFromAgents = 8;

HttpSettings settings(const std::string& certificate, const std::string& key,
                      std::vector<std::string> hosts) {
  HttpSettings s;
  s.certificate = certificate;
  s.key = key;
  s.hosts = std::move(hosts);
  s.lanes = {kQuick, kLong, kFromAgents};
  s.large_bodies = kFromAgents;
  return s;
}

}  // namespace

ApiServer::ApiServer(Api& api, std::string token, const std::string& certificate, const std::string& key,
                     std::vector<std::string> hosts,
                     std::function<std::map<std::string, std::string>()> agents)
    : api_(api),
      token_(std::move(token)),
      agents_(std::move(agents)),
      server_(*this, settings(certificate, key, std::move(hosts))) {}

ApiServer::~ApiServer() { server_.stop(); }

std::string ApiServer::agent_of(std::string_view given) {
  if (given.empty()) return "";
  std::lock_guard lock(mutex_);
  if (const auto now = std::chrono::steady_clock::now(); now - asked_ >= 1s || asked_ == decltype(asked_)()) {
    known_ = agents_();
    asked_ = now;
  }
  std::string found;
  for (const auto& [name, own] : known_)
    if (tokens_equal(given, own)) found = name;
  return found;
}

HttpHandler::Admission ApiServer::admit(HttpRequest& head) {
  if (head.path == "/healthz") {
    if (head.method == "GET") return {{}, 0, 0};
    return {api_error(405, head.method + " is not possible here")};
  }
  const std::string_view given = bearer_token(head);
  if (tokens_equal(given, token_)) {
    head.who = kOwner;
  } else if (const std::string agent = agent_of(given); !agent.empty()) {
    head.who = kAgent + agent;
    if (head.path != kHandoverPath)
      return {api_error(403, "an agent's token may only write", std::string("POST ") + kHandoverPath)};
  } else if (const std::string name = api_.tokens().name_of(given, system_now()); !name.empty()) {
    head.who = kToken + name;
  } else {
    HttpAnswer refusal = api_error(
        401, head.header("Authorization").empty() ? "this call needs the token" : "this is not the token",
        "send `Authorization: Bearer TOKEN`; TOKEN stands in the file `token` of the data folder");
    refusal.headers.emplace_back("WWW-Authenticate", "Bearer");
    return {std::move(refusal)};
  }
  if (head.path == kHandoverPath && !head.who.starts_with(kToken)) return {{}, kLargestIntake, 2};
  const Call* call = call_of(head);
  if (call == nullptr) return {{}, Call{}.largest, 0};
  return {{}, call->largest, call->is_long ? std::size_t{1} : 0};
}

HttpAnswer ApiServer::handle(HttpRequest& request) {
  if (request.path == "/healthz") return {200, "application/json", "{\"status\":\"ok\"}"};
  return api_.handle(request);
}

}  // namespace dingle
