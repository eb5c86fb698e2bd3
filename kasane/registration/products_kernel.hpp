// The inner loop of writing down equations whose stars are eliminated. Internal to registration/.
#pragma once

#include <cstddef>

namespace kasane {

/// to[i] -= a * x[i] + b * y[i], products and their sum rounded one after the other. Vectorised, with run-time
/// dispatch; the same bits for every instruction set.
void subtract_products(double a, const double* x, double b, const double* y, std::size_t count, double* to);

} // namespace kasane
