// What names say: roles, filters and values in the words of folder and file names and headers.
#pragma once

#include <kasane/frames/exposure.hpp>

#include <string>
#include <vector>

namespace kasane {

/// The role that a header value names ("Light Frame", "FLAT", "Master Dark"), and whether it is a master.
struct NamedRole {
    Role role = Role::unknown;
    bool master = false;
    bool sure = true; ///< of a path: nothing else stands in the name that could make the word mean something else
};
NamedRole role_of_text(const std::string& text);

/// The role that one component of a path names with whole words, in English and the other languages of makers and users
/// (French, German, Italian, Spanish, Portuguese, Dutch, Russian, Japanese, Chinese). "dark flat" wins over its parts.
/// Not sure where other words stand beside it ("dark nebula").
NamedRole role_of_name(const std::string& component);

/// Filters by one name: case, spaces and common synonyms folded ("Luminance" -> "L", "H-alpha" -> "Ha"). Unknown names
/// keep their text.
std::string fold_filter(const std::string& name);
/// True for names that fold_filter knows.
bool is_filter_name(const std::string& name);

/// Values that a component of a path spells out: "300s", "-10C", "gain100", "ISO800", "bin2", a filter's name.
struct NamedValue {
    Field field;
    std::string value;
};
std::vector<NamedValue> values_of_name(const std::string& component);

/// Lower case without accents, other bytes as they are.
std::string plain_letters(const std::string& text);

/// The letters and digits of a text, lower case without accents: "M 31", "m31" and "M-31" are one.
std::string squeezed(const std::string& text);

/// Text fit for a file name: letters, digits, '.', '_' and '-'. '+' becomes "plus".
std::string file_safe(const std::string& text);

} // namespace kasane
