// The verbs: arguments in, calls into the libraries, text or JSON out.
#pragma once

#include "arguments.hpp"

#include <kasane/base/parallel.hpp>

namespace kasane::cli {

enum Exit : int { done = 0, done_with_findings = 1, wrong_call = 2, not_done = 3 };

/// Runs the verb the arguments name and returns the exit status. Throws what the libraries throw.
int run_verb(const Arguments& arguments, const Context& context);

} // namespace kasane::cli
