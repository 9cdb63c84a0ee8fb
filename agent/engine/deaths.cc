#include "agent/engine/deaths.h"

#include <fcntl.h>
#include <signal.h>
#include <unistd.h>
#include <xxhash.h>

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>

#include "core/json_text.h"
#include "spool/whole_file.h"

namespace dingle {
namespace {

constexpr int kSignals[] = {SIGSEGV, SIGBUS, SIGABRT, SIGFPE, SIGILL};
constexpr std::size_t kMostNoted = 1000;
constexpr std::size_t kHandlerStack = 64 * 1024;
constexpr std::size_t kTwice = 2;

constexpr std::size_t kMostSlices = 100;  // of one batch that are noted

thread_local const SourceBatch* volatile at_work = nullptr;
int noting = -1;
struct sigaction before[NSIG];

// Calls with(piece) for the lines of each slice. Allocates nothing.
template <class With>
void each_slice(const SourceBatch& batch, const With& with) {
  const std::size_t n = batch.lines.size();
  for (std::size_t from = 0, to = 0; from < n; from = to) {
    while (to < n && batch.lines[to].slice == batch.lines[from].slice) ++to;
    with(Deaths::Piece{batch.slices[batch.lines[from].slice].stream, batch.lines[from].position,
                       batch.lines[to - 1].position});
  }
}

// Only what a signal handler may do.
void append_hex(char*& to, std::uint64_t number) {
  for (int shift = 60; shift >= 0; shift -= 4) *to++ = "0123456789abcdef"[number >> shift & 15];
}
void write_line(char* line, char* end) {
  *end++ = '\n';
  [[maybe_unused]] const auto written = ::write(noting, line, static_cast<std::size_t>(end - line));
}

void note_death(int signal_number, siginfo_t* info, void*) {
  // What comes next, this one again or the next, goes to whoever was there before.
  for (const int s : kSignals) ::sigaction(s, &before[s], nullptr);
  if (const SourceBatch* batch = at_work; batch != nullptr && noting >= 0) {
    char line[64];
    std::size_t slices = 0;
    each_slice(*batch, [&](const Deaths::Piece& piece) {
      if (++slices > kMostSlices) return;
      char* to = line;
      for (const std::uint64_t n : {piece.stream, piece.first, piece.last}) {
        append_hex(to, n);
        *to++ = ' ';
      }
      write_line(line, to - 1);
    });
    char* to = line;
    append_hex(to, XXH3_64bits(batch->buffer->bytes.get(), batch->buffer->size));
    write_line(line, to);
    ::fsync(noting);
  }
  // A fault happens again when this returns; what was sent is sent again.
  if (info->si_code <= 0) ::raise(signal_number);
}

}  // namespace

Deaths::Deaths(const std::string& data) : data_(data) {
  const std::string path = data + "/deaths";
  std::ifstream in(path);
  for (std::string line; std::getline(in, line) && hashes_.size() < kMostNoted;) {
    std::uint64_t n[3] = {};
    std::size_t count = 0;
    const char* const end = line.data() + line.size();
    for (const char* p = line.data(); p < end && count < 3; ++p) {
      const auto r = std::from_chars(p, end, n[count], 16);
      if (r.ec != std::errc()) break;
      ++count;
      p = r.ptr;
    }
    if (count == 3)
      noted_.push_back({n[0], n[1], n[2]});
    else if (count == 1)
      hashes_.push_back(n[0]);
  }
  if (noting >= 0) ::close(noting);
  noting = ::open(path.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC | O_NOFOLLOW, 0600);
  struct sigaction action = {};
  action.sa_sigaction = note_death;
  action.sa_flags = SA_ONSTACK | SA_SIGINFO;
  ::sigemptyset(&action.sa_mask);
  for (const int s : kSignals) ::sigaction(s, &action, &before[s]);
}

Deaths::~Deaths() {
  for (const int s : kSignals) ::sigaction(s, &before[s], nullptr);
  if (noting >= 0) ::close(noting);
  noting = -1;
}

Deaths::Worker::Worker() : stack_(kHandlerStack) {
  const stack_t stack{stack_.data(), 0, stack_.size()};
  ::sigaltstack(&stack, nullptr);
}

Deaths::Worker::~Worker() {
  const stack_t none{nullptr, SS_DISABLE, 0};
  ::sigaltstack(&none, nullptr);
}

Deaths::Working::Working(const SourceBatch& batch) {
  if (batch.lines.empty() || !batch.buffer) return;
  at_work = &batch;
}

Deaths::Working::~Working() { at_work = nullptr; }

bool Deaths::deadly(const SourceBatch& batch) const {
  if (noted_.empty() || batch.lines.empty() || !batch.buffer) return false;
  bool twice = false;
  each_slice(batch, [&](const Piece& here) {
    const auto times = std::count_if(noted_.begin(), noted_.end(), [&](const Piece& n) {
      return n.stream == here.stream && n.first <= here.last && here.first <= n.last;
    });
    twice |= times >= static_cast<std::ptrdiff_t>(kTwice);
  });
  if (twice) return true;
  const std::uint64_t hash = XXH3_64bits(batch.buffer->bytes.get(), batch.buffer->size);
  return std::count(hashes_.begin(), hashes_.end(), hash) >= static_cast<std::ptrdiff_t>(kTwice);
}

std::string Deaths::set_apart(const SourceBatch& batch, bool hidden) const {
  const std::string folder = data_ + "/set-apart";
  std::error_code error;
  std::filesystem::create_directory(folder, error);
  std::filesystem::permissions(folder, std::filesystem::perms::owner_all, error);
  char name[40];
  char* to = name;
  append_hex(to, batch.slices[batch.lines.front().slice].stream);
  *to++ = '-';
  append_hex(to, batch.lines.front().position);
  const std::string path = folder + "/" + std::string(name, to) + ".ndjson";
  std::string text;
  for (const SourceLine& line : batch.lines) {
    text += "{\"source\":";
    append_json_string(text, batch.source);
    for (const Field& f : batch.slices[line.slice].resource->fields) {
      text += ',';
      append_json_string(text, field_name(f.name));
      text += ':';
      f.value.append_json(text);
    }
    text += ",\"position\":" + std::to_string(line.position);
    if (hidden) {
      text += ",\"bytes\":" + std::to_string(line.text.size());
    } else {
      text += ",\"line\":";
      append_json_string(text, line.text);
    }
    text += "}\n";
  }
  return write_whole(path, text, 0600) == 0 ? path : "";
}

std::vector<std::string> Deaths::files_set_apart() const {
  std::vector<std::string> files;
  std::error_code error;
  for (const auto& entry : std::filesystem::directory_iterator(data_ + "/set-apart", error))
    if (entry.path().extension() == ".ndjson") files.push_back(entry.path().string());
  return files;
}

}  // namespace dingle
