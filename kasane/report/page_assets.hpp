// The files of the review page, as they were built in.
#pragma once

#include <string_view>

namespace kasane {

/// The bytes of "review.html", "review.css", "chart.min.js" and the page's scripts; empty for other names.
std::string_view page_asset(std::string_view name);

} // namespace kasane
