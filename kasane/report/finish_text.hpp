// What finishing made, as text for a terminal.
#pragma once

#include <kasane/project/finish.hpp>

#include <string>

namespace kasane {

/// A paragraph an image: what was done to it, in order, and where it is; then what is doubtful.
std::string finish_text(const FinishReport& report, int columns);

} // namespace kasane
