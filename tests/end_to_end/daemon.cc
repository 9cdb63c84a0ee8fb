#include "tests/end_to_end/daemon.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <netinet/in.h>
#include <poll.h>
#include <pwd.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <thread>

namespace dingle {

using namespace std::chrono_literals;

namespace {

constexpr int kLongestRun = 12'000;  // turns of waiting: about four minutes

// In a child: it does not outlive this program (more exactly the thread that began it).
void end_with_parent() { ::prctl(PR_SET_PDEATHSIG, SIGKILL); }

int spawn(const std::vector<std::string>& arguments, const std::string& in, const std::string& out,
          const std::string& err, const std::vector<std::pair<std::string, std::string>>& environment = {}) {
  const int pid = ::fork();
  if (pid != 0) return pid;
  end_with_parent();
  ::dup2(::open(in.c_str(), O_RDONLY), 0);
  ::dup2(::open(out.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600), 1);
  ::dup2(::open(err.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600), 2);
  for (const auto& [name, value] : environment) ::setenv(name.c_str(), value.c_str(), 1);
  std::vector<char*> argv;
  for (const std::string& a : arguments) argv.push_back(const_cast<char*>(a.c_str()));
  argv.push_back(nullptr);
  ::execv(argv[0], argv.data());
  ::_exit(127);
}

}  // namespace

std::string make_folder() {
  std::string pattern = testing::TempDir() + "/dingle-XXXXXX";
  return ::mkdtemp(pattern.data());
}

std::string read_file(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream all;
  all << in.rdbuf();
  return all.str();
}

int start_program(const std::vector<std::string>& arguments, const std::string& output, const char* user) {
  const passwd* other = user && ::geteuid() == 0 ? ::getpwnam(user) : nullptr;
  const int pid = ::fork();
  if (pid != 0) return pid;
  const int out = ::open(output.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
  ::dup2(::open("/dev/null", O_RDONLY), 0);
  ::dup2(out, 1);
  ::dup2(out, 2);
  if (other && (::setgid(other->pw_gid) != 0 || ::setuid(other->pw_uid) != 0)) ::_exit(126);
  end_with_parent();  // another user's forgets it
  std::vector<char*> argv;
  for (const std::string& a : arguments) argv.push_back(const_cast<char*>(a.c_str()));
  argv.push_back(nullptr);
  ::execv(argv[0], argv.data());
  ::_exit(127);
}

void end_program(int pid, int signal) {
  if (pid <= 0) return;  // -1 would be everybody
  ::kill(pid, signal);
  int status = 0;
  for (int i = 0; i < 1500 && ::waitpid(pid, &status, WNOHANG) == 0; ++i) {
    if (i == 1000) ::kill(pid, SIGKILL);
    std::this_thread::sleep_for(10ms);
  }
}

int free_port() {
  const int fd = ::socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof address;
  int port = 0;
  if (::bind(fd, reinterpret_cast<sockaddr*>(&address), size) == 0 &&
      ::getsockname(fd, reinterpret_cast<sockaddr*>(&address), &size) == 0)
    port = ntohs(address.sin_port);
  ::close(fd);
  return port;
}

// DINGLE_DAEMON names another dingled than the one that was built along, for instance one with a sanitizer.
std::string daemon_program() {
  const char* other = std::getenv("DINGLE_DAEMON");
  return other ? other : std::string(DINGLE_BINARIES) + "/dingled";
}

Ran run_program(const std::vector<std::string>& arguments, const std::string& input) {
  const std::string dir = make_folder();
  std::ofstream(dir + "/in", std::ios::binary) << input;
  Ran ran;
  int status = 0;
  const int pid = spawn(arguments, dir + "/in", dir + "/out", dir + "/err");
  for (int i = 0; ::waitpid(pid, &status, WNOHANG) == 0; ++i) {
    if (i == kLongestRun) {
      ADD_FAILURE() << arguments[0] << " did not end";
      ::kill(pid, SIGKILL);
    }
    std::this_thread::sleep_for(i < 100 ? 2ms : 20ms);
  }
  ran.status = WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
  ran.out = read_file(dir + "/out");
  ran.err = read_file(dir + "/err");
  std::filesystem::remove_all(dir);
  return ran;
}

void make_certificate(const std::string& dir, int days) {
  const std::string key = dir + "/key.pem", request = dir + "/request.pem";
  Ran ran = run_program({"/usr/bin/openssl", "req", "-new", "-newkey", "ec", "-pkeyopt",
                         "ec_paramgen_curve:P-256", "-nodes", "-keyout", key, "-out", request, "-subj",
                         "/CN=logs.skerry.example", "-addext", "subjectAltName=IP:127.0.0.1"});
  ASSERT_EQ(ran.status, 0) << ran.err;
  ran = run_program({"/usr/bin/openssl", "x509", "-req", "-in", request, "-signkey", key, "-days",
                     std::to_string(days), "-copy_extensions", "copy", "-out", dir + "/certificate.pem"});
  ASSERT_EQ(ran.status, 0) << ran.err;
}

Daemon::Daemon(const std::string& configuration, const std::string& server)
    : dir(make_folder()), server_(server) {
  std::filesystem::create_directories(dir + "/logs");
  configure(configuration);
}

Daemon::~Daemon() {
  if (runs()) kill();
  for (const char* report : {"AddressSanitizer", "ThreadSanitizer", "LeakSanitizer", "runtime error:"})
    EXPECT_EQ(log().find(report), std::string::npos) << "a sanitizer reported something";
  if (testing::Test::HasFailure())
    std::cerr << "kept: " << dir << "\n" << log();
  else
    std::filesystem::remove_all(dir);
}

void Daemon::configure(const std::string& configuration) {
  std::string text = "version: 1\nserver: { data: '{dir}/data', listen: '127.0.0.1:0'" +
                     (server_.empty() ? "" : ", " + server_) + " }\n" + configuration;
  for (std::size_t at; (at = text.find("{dir}")) != std::string::npos;) text.replace(at, 5, dir);
  std::ofstream(dir + "/dingle.yaml", std::ios::trunc) << text;
}

void Daemon::start_whatever_comes() {
  std::filesystem::remove(dir + "/data/address");
  spawn_it();
  eventually([&] { return std::filesystem::exists(dir + "/data/address") || ended(); });
}

bool Daemon::ended() {
  siginfo_t info = {};
  return pid_ <= 0 || (::waitid(P_PID, static_cast<id_t>(pid_), &info, WEXITED | WNOHANG | WNOWAIT) == 0 &&
                       info.si_pid != 0);
}

int Daemon::wait_for_death() {
  return eventually([&] { return ended(); }) ? wait_for_end() : 0;
}

void Daemon::spawn_it() {
  std::vector<std::string> all{daemon_program(), "--config", dir + "/dingle.yaml"};
  all.insert(all.end(), arguments.begin(), arguments.end());
  pid_ = spawn(all, "/dev/null", dir + "/stdout", dir + "/log", environment);
}

void Daemon::start() {
  std::filesystem::remove(dir + "/data/address");
  spawn_it();
  for (int i = 0; i < 3000 && !std::filesystem::exists(dir + "/data/address"); ++i) {
    int status = 0;
    if (::waitpid(pid_, &status, WNOHANG) == pid_) {
      pid_ = -1;
      FAIL() << "dingled ended: " << log();
    }
    std::this_thread::sleep_for(10ms);
  }
  ASSERT_TRUE(std::filesystem::exists(dir + "/data/address")) << log();
}

int Daemon::wait_for_end() {
  int status = 0;
  ::waitpid(pid_, &status, 0);
  pid_ = -1;
  return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
}
int Daemon::terminate() {
  if (!runs()) return -1;
  ::kill(pid_, SIGTERM);
  return wait_for_end();
}
void Daemon::kill() {
  if (!runs()) return;
  ::kill(pid_, SIGKILL);
  wait_for_end();
}
void Daemon::hang_up() {
  if (runs()) ::kill(pid_, SIGHUP);
}

Ran Daemon::dingle(std::vector<std::string> words, const std::string& input) {
  words.insert(words.begin(), {std::string(DINGLE_BINARIES) + "/dingle", "--data", dir + "/data"});
  return run_program(words, input);
}

Json Daemon::status() {
  Ran ran = dingle({"status", "-o", "json"});
  Json json = Json::parse(ran.out, nullptr, false);
  EXPECT_FALSE(json.is_discarded()) << ran.err;
  return json;
}

std::string Daemon::problem(const std::string& text) {
  std::string told;
  eventually([&] {
    const Json now = status();
    if (now.is_discarded()) return false;
    for (const Json& problem : now["problems"]) {
      const std::string about = problem["about"], said = problem["text"];
      if (about.ends_with(": time")) continue;  // tests' pipelines need no time
      if (told.empty()) told = said;
      if (said.find(text) == std::string::npos) continue;
      told = said;
      return true;
    }
    return false;
  });
  return told;
}

Json Daemon::settled(int seconds) {
  Json before;
  for (int i = 0; i < seconds * 10; ++i) {
    Json now = status();
    if (now.is_discarded()) return now;
    bool quiet = true;
    for (const Json& s : now["sources"]) quiet = quiet && s["bytes_behind"] == 0;
    for (const Json& d : now["destinations"]) quiet = quiet && d["waiting"] == 0;
    if (quiet && !before.is_null() && now["sources"] == before["sources"] &&
        now["destinations"].size() == before["destinations"].size()) {
      bool same = true;
      for (std::size_t k = 0; k < now["destinations"].size(); ++k)
        same = same && now["destinations"][k]["sent"] == before["destinations"][k]["sent"];
      if (same) {
        EXPECT_EQ(now["balanced"], true) << now["balance"].dump(1);
        return now;
      }
    }
    before = quiet ? now : Json();
    std::this_thread::sleep_for(quiet ? 400ms : 100ms);
  }
  ADD_FAILURE() << "not settled: " << status().dump(1);
  return status();
}

std::vector<Json> Daemon::events(const std::string& where, std::size_t limit) {
  Ran ran =
      dingle({"search", where.empty() ? "true" : where, "--limit", std::to_string(limit), "-o", "ndjson"});
  EXPECT_EQ(ran.status, 0) << ran.err;
  std::vector<Json> all;
  std::istringstream in(ran.out);
  for (std::string line; std::getline(in, line);) all.insert(all.begin(), Json::parse(line));
  return all;
}

std::string Daemon::log() const { return read_file(dir + "/log"); }
std::string Daemon::address() const {
  std::string text = read_file(dir + "/data/address");
  return text.substr(0, text.find('\n'));
}
std::string Daemon::token() const {
  std::string text = read_file(dir + "/data/token");
  return text.substr(0, text.find('\n'));
}

void Daemon::write(const std::string& name, const std::string& text, bool append) {
  std::ofstream(path(name), std::ios::binary | (append ? std::ios::app : std::ios::trunc)) << text;
}

Json find(const Json& list, const std::string& name) {
  for (const Json& item : list)
    if (item["name"] == name) return item;
  ADD_FAILURE() << "no " << name << " in " << list.dump();
  return {};
}

}  // namespace dingle
