// Which stored events a command changes, and the job that does it.
#pragma once

#include <functional>
#include <string>

#include "client/query_options.h"

namespace dingle {

struct StoredChoiceOptions {
  QueryOptions query;
  bool all = false, dry = false, no_wait = false;
  void add_to(const Arguments& app, const std::string& dry_text);
};
// Starts the job, follows it to its end and prints it. An exit status.
int run_with_choice(const Client& client, const StoredChoiceOptions& choice, const char* path,
                    const std::function<void(const Json& job)>& print);

}  // namespace dingle
