// Quantiles of distributions and what they are made of, for limits and scores.
#pragma once

namespace kasane {

/// Of the unit normal: below it lies the share `p`, 0 < p < 1. To 1e-12.
double normal_quantile(double p);
/// Of Student's t with so many degrees of freedom, 1 or more. To 1e-9 of itself.
double student_quantile(double p, double degrees);
/// Logarithm of the gamma function of a positive number, from any threads: std::lgamma writes a sign for all of them.
double log_gamma(double x);

} // namespace kasane
