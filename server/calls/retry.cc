// The call that lets a destination be tried at once.
#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

HttpAnswer retry(Api& api, const Asked& asked) {
  const std::string& name = asked.text("destination");
  const auto configuration = api.engine().configuration();
  must_be_one_of(names_of(configuration->destinations), name, "destination");
  return json_answer({{"destination", name}, {"tried", api.engine().retry(name)}});
}

const CallRegistration kRetry({.method = "POST",
                               .path = "/v1/retry",
                               .name = "retryDestination",
                               .text = "Lets a destination be tried at once that waits before its next try.",
                               .body = {{.name = "destination", .text = "Which one.", .required = true}},
                               .run = retry,
                               .example = R"({"destination":"operations","tried":true})",
                               .answer =
                                   [] {
                                     return object_of({{"destination", is_text()}, {"tried", is_boolean()}});
                                   },
                               .scope = Scope::operate});

}  // namespace
}  // namespace dingle
