// Values of the fields of an exposure as text, as headers, names and recipes write them. Use frames/exposure.hpp.
#pragma once

#include <kasane/frames/exposure.hpp>

#include <string>

namespace kasane {

/// Without blanks and quotes at its ends.
std::string trimmed(const std::string& text);

/// Sets a field of an exposure. Returns what is wrong with the text; empty: nothing. `from_file`: in the units and by
/// the conventions of headers.
std::string assign_value(Exposure& exposure, Field field, const std::string& text, bool from_file);

/// The pattern of a colour filter array when the first pixel is `dx`, `dy` further on.
std::string shifted_pattern(const std::string& cfa, int dx, int dy);

} // namespace kasane
