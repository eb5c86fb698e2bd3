// verdicts.toml: what a person decided about single exposures, in text beside the data.
//
//   [[verdict]]
//   file = "night-2/lights/L_005.fits"     # or a glob, "night-2/lights/L_0*"
//   verdict = "drop"                       # or "keep", or "auto": as the limits say
//   note = "wind"
//   content = "9f2c..."                    # written by Kasane: finds the file again when it was moved
//
// Later entries win. Kasane changes only the entries it must and leaves comments, order and everything else as it is.
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/grading/judge.hpp>
#include <kasane/pairing/findings.hpp>

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

std::filesystem::path verdict_file(const std::filesystem::path& folder);

/// A change to be written: nothing means back to what the limits say.
struct VerdictChange {
    std::string path;    ///< of the exposure, relative to the project
    std::string content; ///< its fingerprint
    std::optional<Decision> decision;
};

class VerdictFile {
public:
    /// No file is an empty one. Throws UsageError with line and column for text that is not TOML, keys or values that
    /// cannot be; InputError if the file cannot be read.
    static VerdictFile read(const std::filesystem::path& file);
    static VerdictFile parse(const std::string& text, const std::filesystem::path& file = "verdicts.toml");

    /// What holds for an exposure: the last entry with its content, or, of entries that name none, with its path.
    std::optional<Decision> decision(const Exposure& exposure) const;
    /// A note for each entry that fits no exposure; they stay in the file.
    std::vector<Finding> unused(const std::vector<Exposure>& exposures) const;

    /// The text with the changes made. Globs stay: what they say of others is not touched.
    std::string with(const std::vector<VerdictChange>& changes) const;
    const std::string& text() const { return text_; }

private:
    struct Entry {
        std::string file, content, note;
        enum class Kind { keep, drop, automatic } kind = Kind::keep;
        int first_line = 0, last_line = 0; ///< from 1, of its text
    };
    static bool fits(const Entry& entry, const std::string& path, const std::string& content);
    std::optional<Decision> decision(const std::string& path, const std::string& content) const;
    std::string text_;
    std::vector<Entry> entries_;
};

/// Writes verdicts.toml safely, making the changes to what is there now. Nothing is written if the file cannot be
/// understood. Returns the text that was there before. Throws as read does, and OutputError.
std::string save_verdicts(const std::filesystem::path& folder, const std::vector<VerdictChange>& changes);

} // namespace kasane
