// dingled: the long-running server.
#include <signal.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <cerrno>
#include <condition_variable>
#include <cstring>
#include <filesystem>
#include <iostream>
#include <mutex>
#include <thread>

#include "agent/guarded.h"
#include "agent/memory.h"
#include "agent/secret.h"
#include "core/time/instant.h"
#include "server/api.h"
#include "server/api_server.h"
#include "server/configuration_file.h"
#include "server/jobs/jobs.h"
#include "server/log.h"
#include "server/sample_sets.h"
#include "server/token.h"
#include "server/tokens.h"

namespace dingle {
namespace {

int run(const ConfigurationFile::Place& arguments) {
  // Signals are taken by the main thread alone, at one place.
  sigset_t signals;
  sigemptyset(&signals);
  for (int s : {SIGTERM, SIGINT, SIGHUP}) sigaddset(&signals, s);
  pthread_sigmask(SIG_BLOCK, &signals, nullptr);
  signal(SIGPIPE, SIG_IGN);
  rlimit files{};
  if (getrlimit(RLIMIT_NOFILE, &files) == 0 && files.rlim_cur < files.rlim_max) {
    files.rlim_cur = files.rlim_max;
    setrlimit(RLIMIT_NOFILE, &files);
  }

  ConfigurationFile file(arguments);
  const ConfigurationFile::Read read = file.read();
  for (const Finding& f : read.findings) std::cerr << render(f, file.path(), read.text);
  if (!read.configuration) {
    if (!read.problem.empty()) std::cerr << "dingled: " << read.problem << "\n";
    return 1;
  }
  const auto& configuration = read.configuration;
  std::string problem;
  const std::string data = configuration->server.text("data");
  std::error_code error;
  if (std::filesystem::create_directories(data, error)) ::chmod(data.c_str(), 0700);
  if (error) {
    std::cerr << "dingled: cannot make the data folder " << data << ": " << error.message() << "\n";
    return 1;
  }
  struct stat folder;
  if (::stat(data.c_str(), &folder) == 0 && (folder.st_mode & 022) != 0) {
    std::cerr << "dingled: others may write in the data folder " << data << "\n  = chmod 700 it\n";
    return 1;
  }
  if (folder.st_uid != ::geteuid()) {
    std::cerr << "dingled: the data folder " << data
              << " is another user's\n  = chown it to the one that dingled runs as\n";
    return 1;
  }
  struct stat written;
  if (::stat(file.path().c_str(), &written) == 0 && S_ISREG(written.st_mode) &&
      ((written.st_uid != 0 && written.st_uid != ::geteuid()) || (written.st_mode & 002) != 0)) {
    std::cerr
        << "dingled: somebody else may change the configuration " << file.path()
        << "\n  = it is to be root's, or that of the user that dingled runs as, and not writable by others\n";
    return 1;
  }
  const std::string token = token_of(data, &problem);
  if (token.empty()) {
    std::cerr << "dingled: " << problem << "\n";
    return 1;
  }
  const std::string token_problem = problem;  // a full disk's, else it is empty
  Versions versions(data + "/versions.sqlite");
  // What went since the last run ends by what ran then.
  const Engine::Former former = [&](const std::string& destination) -> std::shared_ptr<const Configuration> {
    std::string unreadable;
    if (destination.empty()) {
      const auto last = versions.current(unreadable);
      return last && last->text != read.text ? file.parse(last->text).configuration : nullptr;
    }
    for (const Version& v : versions.list(Versions::kMostRan + Versions::kMostRefused, unreadable)) {
      const auto whole = v.ran ? versions.get(v.number, unreadable) : std::nullopt;
      if (!whole || whole->text.find(destination) == std::string::npos) continue;
      const auto then = file.parse(whole->text).configuration;
      if (then && then->destination(destination)) return then;
    }
    return nullptr;
  };
  auto engine = Engine::start(
      configuration,
      [](const Problems::Problem& p, Problems::Said said) {
        if (said == Problems::Said::problem)
          log_warning("problem", {{"about", p.about}, {"text", p.text}});
        else
          log_info(said == Problems::Said::ended ? "problem ended" : "note",
                   {{"about", p.about}, {"text", p.text}});
      },
      system_clock(), former);
  if (!engine) {
    std::cerr << "dingled: " << engine.problem().message
              << (engine.problem().hint.empty() ? "" : "\n  = " + engine.problem().hint) << "\n";
    return 1;
  }
  SampleSets samples(data + "/samples");
  file.started(read, versions, **engine, samples);
  std::string unreadable;
  Tokens tokens(data + "/tokens.sqlite", unreadable);
  if (!unreadable.empty()) (*engine)->problems().set("server: tokens", unreadable);
  unreadable.clear();
  Jobs jobs(data + "/jobs.sqlite", **engine, unreadable);
  if (!unreadable.empty()) (*engine)->problems().set("server: jobs", unreadable);
  jobs.begin();
  Api api(**engine, file, tokens, jobs, samples);
  if (const char* trace = std::getenv("DINGLE_API_TRACE"); trace != nullptr && *trace) api.trace(trace);
  const Options& tls = configuration->server.section("tls");
  ApiServer server(
      api, token, tls.text("certificate"), tls.text("key"), configuration->server.texts("hosts"), [&] {
        std::map<std::string, std::string> agents;
        for (const auto& [name, place] : (*engine)->configuration()->server.named_secrets("agents")) {
          const auto secret = read_token_at(place);
          const std::string about = "server: agent " + name;
          if (!secret)
            (*engine)->problems().set(about, secret.problem().message);
          else
            agents[name] = *secret, (*engine)->problems().clear(about);
        }
        return agents;
      });
  problem = server.listen(configuration->server.text("listen"));
  std::map<std::string, std::string> unwritten{
      {"address", (tls.given("certificate") ? "https://" : "") + server.address()}};
  if (!token_problem.empty()) unwritten["token"] = token;
  // What there was no room for is tried again.
  const auto write_rest = [&] {
    std::erase_if(unwritten, [&](const auto& named) {
      bool full = false;
      const std::string why = write_for_clients(data, named.first, named.second, &full);
      if (!why.empty() && !full) problem = why;
      if (full)
        (*engine)->problems().set("server: " + named.first,
                                  why + "; until there is room, clients do not find this program");
      else
        (*engine)->problems().clear("server: " + named.first);
      return !full;
    });
  };
  if (problem.empty()) write_rest();
  if (!problem.empty()) {
    std::cerr << "dingled: " << problem << "\n";
    return 1;
  }
  log_info("started", {{"listen", server.address()},
                       {"data", data},
                       {"configuration", configuration->version},
                       {"epoch", std::to_string((*engine)->spool().identity().epoch)}});
  // Reloads wait for what runs: not here, where signals are heard.
  std::mutex reloading;
  std::condition_variable_any reload_asked;
  bool reload_wanted = false;
  std::jthread reloader([&](const std::stop_token& stops) {
    std::unique_lock lock(reloading);
    while (reload_asked.wait(lock, stops, [&] { return reload_wanted; })) {
      reload_wanted = false;
      lock.unlock();
      guarded((*engine)->problems(), "configuration: unforeseen", [&] { file.reload({"signal", ""}); });
      lock.lock();
    }
  });
  for (;;) {
    int signal_number = 0;
    if (unwritten.empty()) {
      sigwait(&signals, &signal_number);
    } else {
      constexpr timespec kTryAgain{1, 0};
      signal_number = sigtimedwait(&signals, nullptr, &kTryAgain);
      if (signal_number < 0) {
        write_rest();
        continue;
      }
    }
    if (signal_number != SIGHUP) break;
    const std::lock_guard lock(reloading);
    reload_wanted = true;
    reload_asked.notify_one();
  }
  reloader.request_stop();
  const auto within = std::chrono::nanoseconds((*engine)->configuration()->server.number("stop_within"));
  log_info("stopping", {{"within", format_duration(within.count())}});
  // Whatever is in hand is whole in the spool, or will be read again: so nothing needs to be waited for
  // longer.
  std::thread([until = std::chrono::steady_clock::now() + within + std::chrono::milliseconds(700)] {
    std::this_thread::sleep_until(until);
    log_warning("stopped in the middle",
                {{"text",
                  "something took longer than `stop_within`; what was in hand is sent, or "
                  "read, again at the next start"}});
    ::_exit(0);
  }).detach();
  jobs.leave();
  (*engine)->stop(within);
  reloader.join();
  jobs.join();
  server.stop();
  log_info("stopped");
  return 0;
}

}  // namespace
}  // namespace dingle

int main(int argc, char** argv) {
  dingle::prepare_memory();
  CLI::App app{
      "dingled: reads logs, makes events of them, and ships them. Stops on SIGTERM, reloads on SIGHUP.",
      "dingled"};
  app.footer("Example:\n  dingled --config dingle.yaml --data ./data --listen 127.0.0.1:0");
  dingle::ConfigurationFile::Place arguments;
  app.add_option("--config", arguments.path, "The configuration file")->capture_default_str();
  app.add_option("--data", arguments.data, "The data folder, instead of the configuration's");
  app.add_option("--listen", arguments.listen, "Address and port of the API, instead of the configuration's");
  bool openapi = false;
  app.add_flag("--openapi", openapi, "Print the description of the API (OpenAPI 3.1), and end");
  app.set_version_flag("--version", "dingled 0.1.0");
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? 0 : 2;
  }
  if (openapi) {
    std::cout << dingle::openapi_document();
    return 0;
  }
  return dingle::run(arguments);
}
