// The runner for x86-64 processors with AVX2, BMI2 and POPCNT.
#include "core/template/matcher.h"

#if defined(__x86_64__)

#include <immintrin.h>

#include <cstring>

#include "core/template/template.h"
#include "core/time/formats.h"

// Only what follows is compiled for them: the inline functions of the headers above keep the base
// instructions, since the linker may choose any of their copies for the whole program.
#if defined(__clang__)
#pragma clang attribute push(__attribute__((target("avx2,bmi,bmi2,popcnt"))), apply_to = function)
#else
#pragma GCC push_options
#pragma GCC target("avx2,bmi,bmi2,popcnt")
#endif
#define DINGLE_WIDE 1

namespace dingle {
namespace {
#include "core/template/matcher.inl"
}  // namespace

const Runner avx2_runner = run;

}  // namespace dingle

#if defined(__clang__)
#pragma clang attribute pop
#else
#pragma GCC pop_options
#endif

#else
namespace dingle {
const Runner avx2_runner = nullptr;
}
#endif
