#include "server/api.h"

#include <algorithm>
#include <utility>

#include "core/nearest.h"
#include "server/api_trace.h"
#include "server/calls/call.h"

namespace dingle {
namespace {

// A question whose parameters came as a form.
HttpAnswer ask_by_form(Api& api, const HttpRequest& request, const Call& call) {
  if (!request.header("Content-Type").starts_with("application/x-www-form-urlencoded"))
    return api_error(415, "a question by POST is a form", "Content-Type: application/x-www-form-urlencoded");
  auto form = parameters_of(request.body);
  if (!form) return api_error(400, "the form has too many parameters");
  HttpRequest asked = request;
  asked.method = call.method;
  asked.parameters.merge(*form);
  asked.body.clear();
  return api.handle(asked);
}

std::string needed(Scope scope) {
  for (const ScopeName& s : scope_names())
    if (s.scope == scope) return std::string("it takes a token with the scope `") + s.name + "`";
  return scope == Scope::write ? "it takes an agent's token, or the program's own"
                               : "it takes the program's own token";
}

}  // namespace

HttpAnswer api_error(int status, const std::string& message, const std::string& hint,
                     const std::string& parameter, std::size_t offset, std::size_t length) {
  HttpProblem problem{status, message, hint, parameter};
  if (length != 0) problem.offset = offset, problem.length = length;
  return problem_answer(problem);
}

unsigned Api::scopes_of(const std::string& who) const {
  if (who == kOwner) return kAllScopes;
  if (who.starts_with(kAgent)) return static_cast<unsigned>(Scope::write);
  return who.starts_with(kToken) ? tokens_.scopes_of(who.substr(kToken.size())) : 0;
}

bool Api::may(const HttpRequest& request, Scope scope) const {
  return (scopes_of(request.who) & static_cast<unsigned>(scope)) != 0;
}

void Api::trace(const std::string& path) { trace_ = std::make_shared<ApiTrace>(path); }

HttpAnswer Api::handle(const HttpRequest& request) {
  const Call* call = nullptr;
  HttpAnswer given = answer(request, call);
  if (trace_) ApiTrace::note(trace_, request, call, given);
  return given;
}

// Events may be moved between indexes meanwhile: then it is asked again, the third time while none may be moved.
HttpAnswer Api::ask_still(const Call& call, const Asked& asked) {
  using namespace std::chrono_literals;
  const auto all = engine_.stores("");
  const auto until = std::chrono::steady_clock::now() + 10s;
  const auto counts = [&] {
    std::vector<std::optional<std::uint64_t>> all_counts;
    for (const auto& store : all) all_counts.push_back(store->moves().still(until));
    return all_counts;
  };
  const HttpAnswer refused =
      api_error(503, "events are being moved between indexes, and cannot be", "`dingle status` says why");
  for (int times = 0; times < 2; ++times) {
    const auto before = counts();
    if (std::count(before.begin(), before.end(), std::nullopt) != 0) return refused;
    HttpAnswer answer = call.run(*this, asked);
    if (counts() == before) return answer;
  }
  struct Held {
    std::vector<Store*> stores;
    ~Held() {
      for (Store* store : stores) store->moves().let_go();
    }
  } held;
  for (const auto& store : all) {
    if (!store->moves().hold(until)) return refused;
    held.stores.push_back(store.get());
  }
  return call.run(*this, asked);
}

HttpAnswer Api::answer(const HttpRequest& request, const Call*& call) {
  if (request.who.empty()) return api_error(401, "this call needs the token");
  call = call_of(request);
  if (call == nullptr) {
    std::vector<std::string> paths;
    HttpRequest other = request;
    std::string methods;
    for (const Call& c : calls()) {
      paths.push_back(c.path);
      other.method = c.method;
      if (call_of(other) == &c) methods += (methods.empty() ? "" : ", ") + other.method;
    }
    if (methods.empty())
      return api_error(404, "there is no `" + request.path + "`", did_you_mean(request.path, paths));
    HttpAnswer answer = api_error(405, request.method + " is not possible here", methods + " is");
    answer.headers.emplace_back("Allow", methods);
    return answer;
  }
  if (!may(request, call->scope)) return api_error(403, "this token may not do that", needed(call->scope));
  if (request.method != call->method) return ask_by_form(*this, request, *call);
  try {
    const auto configuration = engine().configuration();
    const TableScope tables(configuration->tables_by_name);  // that conditions may name
    const Asked asked = read_asked(*call, request);
    return call->asks_stores ? ask_still(*call, asked) : call->run(*this, asked);
  } catch (Refused& refused) {
    return std::move(refused.answer);
  } catch (const std::exception& error) {  // a damaged file, mostly
    return api_error(500, std::string("this could not be done: ") + error.what(),
                     "`dingle status` may know more; the program goes on");
  }
}

}  // namespace dingle
