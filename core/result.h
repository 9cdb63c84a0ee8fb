// Errors as values: a Problem says what is wrong in words for a person, where in the
// text it is, and what would be right. Result<T> is a T or a Problem.
//
//   Result<Template> t = Template::compile("{status:itn}", library);
//   if (!t) print(t.problem().message);       // unknown pattern `itn`
//   else use(*t);
//
// Not for conditions of the process (out of memory, a broken invariant): those abort.
#pragma once

#include <cstddef>
#include <string>
#include <utility>
#include <variant>
#include <vector>

namespace dingle {

// A finding about a text that somebody wrote. `offset` and `length` are in bytes of that text.
struct Problem {
  std::string message;
  std::string hint;  // what to do, or the nearest valid choice; empty if there is none
  std::size_t offset = 0;
  std::size_t length = 0;
};

template <class T>
class Result {
 public:
  Result(T value) : state_(std::in_place_index<0>, std::move(value)) {}  // NOLINT: implicit on purpose
  Result(Problem problem) : state_(std::in_place_index<1>, std::move(problem)) {}  // NOLINT

  explicit operator bool() const { return state_.index() == 0; }
  T& operator*() { return std::get<0>(state_); }
  const T& operator*() const { return std::get<0>(state_); }
  T* operator->() { return &std::get<0>(state_); }
  const T* operator->() const { return &std::get<0>(state_); }
  Problem& problem() { return std::get<1>(state_); }
  const Problem& problem() const { return std::get<1>(state_); }

 private:
  std::variant<T, Problem> state_;
};

}  // namespace dingle
