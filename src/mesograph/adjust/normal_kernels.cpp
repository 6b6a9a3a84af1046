#include <mesograph/adjust/normal_kernels.hpp>

namespace mesograph::adjust {

// Wider registers where the processor has them, chosen at run time; sums stay the same, for nothing is contracted.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define MESOGRAPH_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define MESOGRAPH_WIDE
#endif

MESOGRAPH_WIDE void subtract_pair(const double* Y, const float* turn, const float* B, double* out) {
  double first[6], second[6];
  for (int r = 0; r < 6; ++r) {
    first[r] = Y[r] * B[0] + Y[r + 6] * B[2] + Y[r + 12] * B[4];
    second[r] = Y[r] * B[1] + Y[r + 6] * B[3] + Y[r + 12] * B[5];
  }
  for (int c = 0; c < 3; ++c) {
    const double a = turn[2 * c], b = turn[2 * c + 1], d = -B[2 * c], e = -B[2 * c + 1];
    for (int r = 0; r < 6; ++r) out[6 * c + r] -= first[r] * a + second[r] * b;
    for (int r = 0; r < 6; ++r) out[6 * (c + 3) + r] -= first[r] * d + second[r] * e;
  }
}

MESOGRAPH_WIDE void add_product(const float* K, const double* A, int n, double* out) {
  double first[most], second[most];
  for (int r = 0; r < most; ++r) first[r] = K[2 * r], second[r] = K[2 * r + 1];
  for (int c = 0; c < n; ++c) {
    const double a = A[2 * c], b = A[2 * c + 1];
    for (int r = 0; r < most; ++r) out[most * c + r] += first[r] * a + second[r] * b;
  }
}

MESOGRAPH_WIDE void subtract_product(const double* W, const double* Y, int n, double* out) {
  for (int c = 0; c < n; ++c) {
    const double a = Y[c], b = Y[n + c], d = Y[2 * n + c];
    for (int r = 0; r < most; ++r) out[most * c + r] -= W[r] * a + W[most + r] * b + W[2 * most + r] * d;
  }
}

}  // namespace mesograph::adjust
