#pragma once

/// Marks a plain loop that is compiled twice, for AVX2 and for any processor, and chosen at run time. Both round alike,
/// because contraction is off. A macro for want of another way to set a function's attribute by compiler.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define MESOGRAPH_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define MESOGRAPH_WIDE
#endif
