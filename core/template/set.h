// Several templates tried as one: the first of them, in order, that matches a line wins.
//
//   TemplateSet set({a, b, c});
//   std::vector<Value> values;
//   int which = set.match(line, context, values);        // 1: b matched; values[i] is for b's slots()[i]
//
// Templates that begin alike are run once up to where they part, then chosen by the next byte of their
// literals; those that begin with free text are looked at only if a literal that they require stands in the
// line. So the cost of a line grows with the number of templates that really come into question, not with the
// number of templates.
#pragma once

#include <array>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "core/template/template.h"

namespace dingle {

// Immutable once made: many threads may match with one.
class TemplateSet {
 public:
  TemplateSet() = default;
  explicit TemplateSet(std::vector<std::shared_ptr<const Template>> all);

  // The index of the first template that matches, or -1. `values` is made as large as it must be.
  // `expensive`: the index of a template that gave up on the line, if one did; else it is left alone.
  int match(std::string_view line, const MatchContext& context, std::vector<Value>& values,
            int* expensive = nullptr) const;
  // The templates that came furthest on a line that none matches, the best first; at most `most`; all if there
  // are no more. `result` is overwritten.
  void nearest(std::string_view line, const MatchContext& context, std::size_t most,
               std::vector<std::size_t>& result) const;
  // Pairs (later, earlier): every line that the later one matches is taken by the earlier one before. Not all
  // such pairs are found, but those that are found are sure.
  std::vector<std::pair<std::size_t, std::size_t>> shadowed() const;

  const Template& operator[](std::size_t i) const { return *all_[i]; }
  std::size_t size() const { return all_.size(); }

 private:
  // Where a template stands while the tree is made: its next element, and how much of that literal is used
  // up.
  struct Place {
    std::uint32_t which, element, used;
  };
  // What a line reads of a leaf lies in one cache line.
  struct alignas(64) Node {
    const Program* program = nullptr;            // what all templates below go on with; nullptr: nothing
    std::uint32_t lead_at = 0, lead_length = 0;  // literal text that comes first, in `leads_`
    std::uint32_t least = 0;                     // the first of the templates below
    std::int32_t leaf = -1;                      // the template that ends here
    std::uint32_t clear_from = 0, clear_to = 0;  // leaf: slots that are cleared first
    std::int32_t required = -1;                  // leaf: index of the literal that must be in the line
    std::uint32_t key_length = 0;                // of `keyed`, in bytes; 0: there are none
    bool open_end = false;                       // leaf: the line may go on behind it
    // Children by the byte with which their literal goes on: 0 or the place in `by_byte`, counted from 1.
    std::unique_ptr<std::array<std::uint16_t, 256>> places;
    std::vector<std::uint32_t> by_byte;
    // Where there are many: children by the next bytes of their literal, up to eight, in a hash table.
    struct Keyed {
      std::uint64_t key = 0;
      std::uint32_t child = 0, used = 0;
    };
    std::vector<Keyed> keyed;           // its size is a power of two
    std::vector<std::uint32_t> others;  // children that begin otherwise, by `least`
  };
  struct Walk;

  std::uint32_t build(std::vector<Place> places);
  void make_leaf(Node& node, const Place& place);
  const Program* ending(const Place& place);
  void lead(Node& node, std::string_view text);
  void visit(const Node& node, const char* at, Walk& walk) const;
  bool required_is_there(std::int32_t literal, Walk& walk) const;

  std::vector<std::shared_ptr<const Template>> all_;
  std::vector<Node> nodes_;
  std::string leads_;
  std::vector<std::unique_ptr<const Program>> programs_;
  // The programs of leaves. Those that end alike have one together: fewer instructions are better remembered
  // by the processor.
  struct Ending {
    Place place;
    const Program* program;
  };
  std::vector<Ending> endings_;
  std::vector<std::string> required_;
  std::vector<std::vector<std::int32_t>> required_by_hash_;  // 4096 lists, by four bytes of the literal
  std::size_t most_values_ = 0;
};

}  // namespace dingle
