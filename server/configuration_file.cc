#include "server/configuration_file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "agent/configuration_hiding.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/json_answer.h"
#include "server/log.h"
#include "server/sample_sets.h"

namespace dingle {
namespace {

std::string failed(const std::string& what, const std::string& path) {
  return "cannot " + what + " " + path + ": " + std::strerror(errno);
}

}  // namespace

Json ConfigurationFile::findings_json(const std::vector<Finding>& findings) {
  auto list = Json::array();
  for (const Finding& f : findings)
    list.push_back({{"severity", f.is_error ? "error" : "warning"},
                    {"line", f.place.line},
                    {"column", f.place.column},
                    {"length", f.length},
                    {"message", f.message},
                    {"hint", f.hint}});
  return list;
}

Json ConfigurationFile::findings_schema() {
  return list_of(object_of({{"severity", {{"enum", {"error", "warning"}}}},
                            {"line", is_integer()},
                            {"column", is_integer()},
                            {"length", is_integer()},
                            {"message", is_text()},
                            {"hint", is_text()}}));
}

ConfigurationFile::Read ConfigurationFile::read() const {
  std::ifstream in(place_.path, std::ios::binary);
  std::ostringstream all;
  if (in) all << in.rdbuf();
  if (in) return parse(all.str());
  Read r;
  r.problem = place_.path + ": " + std::strerror(errno);
  return r;
}

ConfigurationFile::Read ConfigurationFile::parse(std::string text) const {
  Read r;
  r.text = std::move(text);
  Findings findings(r.text);
  r.configuration = read_configuration(r.text, findings);
  r.findings = findings.all();
  if (!r.configuration || (place_.data.empty() && place_.listen.empty())) return r;
  auto changed = std::make_shared<Configuration>(*r.configuration);
  if (!place_.data.empty()) changed->server.override_text("data", place_.data);
  if (!place_.listen.empty()) changed->server.override_text("listen", place_.listen);
  r.problem = listen_problem(changed->server);
  r.configuration = r.problem.empty() ? changed : nullptr;
  return r;
}

void ConfigurationFile::keep(const Read& read, const Said& said, bool ran, const std::string& why,
                             std::int64_t* number) {
  Version v;
  v.ran = ran;
  v.hash = version_of(read.text);
  v.at = system_now();
  v.who = said.who, v.note = said.note, v.file = place_.path, v.why = why;
  v.findings = dump(findings_json(read.findings));
  v.text = read.text;
  const std::string problem = versions_->keep(v);
  if (problem.empty())
    engine_->problems().clear("versions");
  else
    engine_->problems().set("versions", problem + "; this one is not kept");
  if (number) *number = v.number;
}

void ConfigurationFile::started(const Read& read, Versions& versions, Engine& engine, SampleSets& samples) {
  versions_ = &versions;
  engine_ = &engine;
  samples_ = &samples;
  samples.look(engine);
  keep(read, {"start", ""}, true, "");
}

// Makes it run. Why not, or "".
std::string ConfigurationFile::take(const Read& read, const Said& said, std::int64_t* number) {
  std::string problem = read.problem;
  if (read.configuration)
    problem = engine_->reload(read.configuration);
  else if (problem.empty()) {
    problem = "the configuration has errors; the running one goes on";
    const auto first =
        std::find_if(read.findings.begin(), read.findings.end(), [](const Finding& f) { return f.is_error; });
    if (first != read.findings.end())
      problem += ": " + place_.path + ":" + std::to_string(first->place.line) + ":" +
                 std::to_string(first->place.column) + ": " + first->message +
                 (first->hint.empty() ? "" : " (" + first->hint + ")");
  }
  if (!read.text.empty()) keep(read, said, problem.empty(), problem, number);
  samples_->look(*engine_);
  if (problem.empty())
    log_info("configuration reloaded", {{"version", read.configuration->version}, {"who", said.who}});
  return problem;
}

HttpAnswer ConfigurationFile::reload(const Said& said) {
  std::lock_guard lock(changing_);
  const Read r = read();
  std::int64_t number = 0;
  const std::string problem = take(r, said, &number);
  Json body{{"findings", findings_json(r.findings)}, {"file", place_.path}, {"version", number}};
  if (!problem.empty()) {
    engine_->problems().set("configuration", problem);
    return json_problem(409, problem, std::move(body));
  }
  engine_->problems().clear("configuration");
  body["configuration"] = r.configuration->version;
  return json_answer(body);
}

HttpAnswer ConfigurationFile::return_to(std::int64_t number, const Said& said, bool may_see_lines) {
  std::lock_guard lock(changing_);
  std::string problem;
  const auto version = versions_->get(number, problem);
  if (!problem.empty()) return api_error(500, problem);
  if (!version)
    return api_error(404, "there is no version " + std::to_string(number), "dingle versions lists them",
                     "version");
  if (!version->ran)
    return api_error(409, "version " + std::to_string(number) + " was refused: " + version->why,
                     "choose one that ran", "version");
  const Read now = read(), then = parse(version->text);
  const auto current = versions_->current(problem);
  if (!current || now.text != current->text) {
    Json body{{"file", place_.path},
              {"running", current ? current->text : ""},
              {"on_disk", now.text},
              {"wanted", version->text}};
    return json_problem(409,
                        place_.path + " is not what runs: somebody changed it" +
                            (now.problem.empty() ? "" : " (" + now.problem + ")") + "; nothing was written",
                        std::move(body), "reload what stands there, or put it back, and then return");
  }
  Json body{{"findings", findings_json(then.findings)}, {"file", place_.path}};
  const auto refused = [&](const std::string& why) -> HttpAnswer { return json_problem(409, why, body); };
  if (!then.configuration)
    return refused(then.problem.empty() ? "version " + std::to_string(number) + " has errors today"
                                        : then.problem);
  if (const std::string less = hides_less(*engine_->configuration(), *then.configuration);
      !less.empty() && !may_see_lines)
    return json_problem(
        403,
        "version " + std::to_string(number) + " hides less (" + less + "), and your token may not see lines",
        body, "it takes the scope `lines` beside `edit`");
  if (version->text == current->text) return refused("version " + std::to_string(number) + " runs already");
  if (problem = write(then.text); !problem.empty()) {
    body["text"] = version->text;
    return refused(problem + "; this is the text, for you to paste");
  }
  std::int64_t made = 0;
  const std::string note = said.note.empty() ? "as version " + std::to_string(number) : said.note;
  if (problem = take(then, {said.who, note}, &made); !problem.empty()) {
    // The file is the truth again.
    const std::string back = write(current->text);
    return refused(problem + (back.empty() ? "; the file is as it was" : "; and " + back));
  }
  engine_->problems().clear("configuration");
  body["configuration"] = then.configuration->version;
  body["version"] = made;
  return json_answer(body);
}

// Replaces the file's text as a whole. Its owner and mode stay, and links to it too. Why not, or "".
std::string ConfigurationFile::write(const std::string& text) const {
  std::error_code error;
  const std::string path = std::filesystem::canonical(place_.path, error).string();
  if (error) return "cannot find " + place_.path + ": " + error.message();
  struct stat before {};
  if (::stat(path.c_str(), &before) != 0) return failed("look at", path);
  std::string made = path + ".new-XXXXXX";
  const int fd = ::mkostemp(made.data(), O_CLOEXEC);
  if (fd < 0) return failed("write beside", path);
  std::string problem;
  std::string_view left = text;
  while (problem.empty() && !left.empty()) {
    const ssize_t n = ::write(fd, left.data(), left.size());
    if (n > 0)
      left.remove_prefix(static_cast<std::size_t>(n));
    else if (errno != EINTR)
      problem = failed("write", made);
  }
  if (problem.empty() &&
      (::fchown(fd, before.st_uid, before.st_gid) != 0 || ::fchmod(fd, before.st_mode & 07777) != 0))
    problem = failed("give its owner and mode to", made);
  if (problem.empty() && ::fsync(fd) != 0) problem = failed("write", made);
  ::close(fd);
  if (problem.empty() && ::rename(made.c_str(), path.c_str()) != 0) problem = failed("replace", path);
  if (!problem.empty()) {
    ::unlink(made.c_str());
    return problem;
  }
  const int folder =
      ::open(std::filesystem::path(path).parent_path().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (folder < 0 || ::fsync(folder) != 0) problem = failed("write the folder of", path);
  if (folder >= 0) ::close(folder);
  return problem;
}

}  // namespace dingle
