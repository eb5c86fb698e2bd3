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

/// How much a filter's name in a path says.
enum class FilterWord {
    none,
    letter, ///< a lone L, R, G or B, or a word that also means something else: "Blue-Horsehead", "N2"
    word,   ///< a longer one that stands for nothing else: "Ha", "OIII", "lum", or "red" where no other words stand by
};
struct NamedFilter {
    FilterWord strength = FilterWord::none;
    std::string name; ///< as it stands
};
/// The filter that one component of a path names. A lone letter at the beginning says nothing where it is the initial
/// of the frames' role ("L_001", "B_00"): `initials` lists those letters.
NamedFilter filter_of_name(const std::string& component, const std::string& initials = {});

/// The letters with which names of frames of a role begin, of those that could be filters: of the role in English, and
/// of the word in the path that names it.
std::string role_initials(Role role, const std::string& path);

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
