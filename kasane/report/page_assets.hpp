// The files of the pages, as they were built in.
#pragma once

#include <string_view>

namespace kasane {

/// The bytes of "review.html", "report.html", "look.css", "chart.min.js" and the pages' other styles and scripts; empty
/// for other names.
std::string_view page_asset(std::string_view name);

} // namespace kasane
