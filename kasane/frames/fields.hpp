// What the fields of an exposure are called: by Kasane, and in the headers of files. Use frames/exposure.hpp.
#pragma once

#include <kasane/frames/exposure.hpp>

#include <string_view>
#include <vector>

namespace kasane {

struct FieldEntry {
    const char* name;
    const char* meaning;
    /// The spellings in use, the FITS standard's and its registry's first; EXIF tags last.
    std::vector<std::string_view> keys;
};

const FieldEntry& field_entry(Field field);

} // namespace kasane
