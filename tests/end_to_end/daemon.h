// A dingled of a test's own: a temporary folder, a free port, real processes, ended by their ids.
#pragma once

#include <chrono>
#include <nlohmann/json.hpp>
#include <string>
#include <thread>
#include <vector>

namespace dingle {

using Json = nlohmann::json;

// Waits until it holds, longer than a busy machine needs for it; whether it does.
template <typename Condition>
bool eventually(Condition holds, std::chrono::seconds limit = std::chrono::seconds(60)) {
  for (const auto end = std::chrono::steady_clock::now() + limit; !holds();) {
    if (std::chrono::steady_clock::now() >= end) return false;
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  return true;
}

struct Ran {
  int status = -1;
  std::string out, err;
};
// Runs a program to its end; `input` goes to its standard input.
Ran run_program(const std::vector<std::string>& arguments, const std::string& input = "");

std::string daemon_program();
// Starts a program in the background, as another user if one is given; its output goes to the file.
int start_program(const std::vector<std::string>& arguments, const std::string& output,
                  const char* user = nullptr);
// Ends it by the signal, and waits for its end.
void end_program(int pid, int signal);
std::string read_file(const std::string& path);  // empty if there is none
std::string make_folder();                       // a new one, for a test
int free_port();                                 // of the loopback, that nothing listened on a moment ago

// A certificate for the loopback in the folder, valid for so many days from now (negative: expired):
// certificate.pem, key.pem.
void make_certificate(const std::string& dir, int days = 2);

class Daemon {
 public:
  // `configuration`: {dir} stands for the folder. The server section is added.
  explicit Daemon(const std::string& configuration, const std::string& server = "");
  ~Daemon();  // kills what still runs, and removes the folder unless the test failed
  void configure(const std::string& configuration);

  void start();                 // returns when it answers
  void start_whatever_comes();  // returns when it answers, or has ended
  int terminate();              // SIGTERM; its exit status
  int wait_for_death();         // the signal that ends it, negative; 0 if none does in time
  void kill();                  // SIGKILL
  void hang_up();               // SIGHUP
  bool runs() const { return pid_ > 0; }
  int pid() const { return pid_; }

  Ran dingle(std::vector<std::string> arguments, const std::string& input = "");
  Json status();  // of the API
  // The text of the first problem that says this, once there is one; not of one about the time of a pipeline's events.
  std::string problem(const std::string& text = "");
  // Waits until everything that was written is read, and nothing waits; the status then.
  Json settled(int seconds = 120);
  // All events that satisfy the condition, oldest first.
  std::vector<Json> events(const std::string& where = "", std::size_t limit = 10000);
  std::string log() const;
  std::string address() const;
  std::string token() const;

  void write(const std::string& name, const std::string& text, bool append = true);  // a file in logs/
  std::string path(const std::string& name) const { return dir + "/logs/" + name; }
  std::string dir;
  std::vector<std::pair<std::string, std::string>> environment;  // for the next start
  std::vector<std::string> arguments;                            // further ones, for the next start

 private:
  void spawn_it();
  bool ended();
  int wait_for_end();
  std::string server_;
  int pid_ = -1;
};

Json find(const Json& list, const std::string& name);  // the item with that name

}  // namespace dingle
