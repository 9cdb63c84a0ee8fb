// Grows templates over lines from left to right. Internal to core/draft.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "core/draft/names.h"
#include "core/draft/tokens.h"

namespace dingle {

struct DraftRow {
  std::string_view rest;  // of the line, from where growing begins
  std::vector<Token> tokens;
};

class DraftGrower {
 public:
  explicit DraftGrower(std::vector<std::string>& notes) : notes_(notes) {}

  // Templates for rows that all begin with what `begin` matches. Rows that fit nothing much are left out.
  std::vector<std::string> grow(const std::vector<DraftRow>& rows, const std::string& begin,
                                DraftNames names);

 private:
  struct At {
    const DraftRow* row;
    std::size_t token;
    const Token& here() const { return ahead(0); }
    const Token& ahead(std::size_t n) const;
    std::string_view rest() const;
  };
  using Rows = std::vector<At>;
  // What stands so far: the template's text, and the literal since the last capture.
  struct State {
    std::string text, before;
    DraftNames names;
    bool open = false;  // ends with a text that something must end
  };

  void grow(Rows rows, State state, std::vector<std::string>& out, std::size_t depth);
  bool literal(Rows& rows, State& state);
  bool typed(Rows& rows, State& state);
  static bool forms_differ_behind(const Rows& rows);
  bool words(Rows& rows, State& state, std::vector<std::string>& out, std::size_t depth, bool& done);
  static bool phrase(const Rows& rows);
  bool majority(const Rows& rows, const State& state, std::vector<std::string>& out, std::size_t depth);
  static std::string_view pairs(const Rows& rows);
  bool chunk(Rows& rows, State& state);
  bool anchor(Rows& rows, State& state);
  bool part(const Rows& rows, const State& state, std::vector<std::string>& out, std::size_t depth);
  bool split(const std::map<std::string, Rows>& parts, std::size_t all, const State& state,
             std::vector<std::string>& out, std::size_t depth, std::size_t most);
  static bool agreement_of_next(const Rows& rows);
  void free_text(State& state, std::vector<std::string>& out);
  void capture(Rows& rows, State& state, const std::string& pattern, const Token& example,
               std::size_t tokens);
  void add_literal(State& state, std::string_view text);

  static std::string skeleton(const At& at, std::size_t from, std::size_t most);
  static std::string whole_skeleton(const At& at);
  static std::string run_skeleton(const At& at);
  // The share of rows whose tokens from `from` on have the commonest skeleton.
  static double agreement(const Rows& rows, std::size_t from);

  std::vector<std::string>& notes_;
  std::size_t made_ = 0;
};

}  // namespace dingle
