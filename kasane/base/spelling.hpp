// What somebody may have meant by a word that is not known.
#pragma once

#include <string>
#include <vector>

namespace kasane {

/// The nearest of `right` by edits (letters put in, left out, changed, or two neighbours swapped; F. Damerau, Commun.
/// ACM 7, 1964), or nothing where none is near.
std::string nearest_word(const std::string& wrong, const std::vector<std::string>& right);

} // namespace kasane
