// The runner for any processor.
#include <cstring>

#include "core/template/matcher.h"
#include "core/template/template.h"
#include "core/time/formats.h"

#define DINGLE_WIDE 0

namespace dingle {
namespace {
#include "core/template/matcher.inl"
}  // namespace

const Runner portable_runner = run;

}  // namespace dingle
