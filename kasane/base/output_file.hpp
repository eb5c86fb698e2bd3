// Writing without half files: under a temporary name in the final folder, synced, then renamed; and never over what
// somebody else wrote.
#pragma once

#include <filesystem>
#include <functional>
#include <optional>
#include <string_view>

namespace kasane {

/// A file as it is now, before it is edited; nothing if it is not there. Throws InputError.
std::optional<std::string> content_of(const std::filesystem::path& file);

/// What a write may replace.
enum class Over {
    own_work, ///< only what Kasane wrote itself, as the file's own marks say (see is_own_work)
    anything, ///< for Kasane's private folder, and for text that a person asked to have edited
};

/// True for files that say of themselves that Kasane wrote them: FITS with a CREATOR card, PNG with a Software chunk,
/// JPEG with a comment, TIFF with a Software tag and its directory first, and its text files. False where that cannot
/// be read. Exposures never say so.
bool is_own_work(const std::filesystem::path& file);

/// Throws UsageError where `file` is there and not Kasane's own work.
void require_replaceable(const std::filesystem::path& file);

/// The marks that is_own_work looks for, put there by the writers of each format.
extern const char* const kCreator;                                          ///< "Kasane 0.1.0"
inline constexpr const char* kReportMark = "Kasane report\n";               ///< how text begins
inline constexpr const char* kPageMark = "<title>Kasane:";                  ///< within HTML and SVG
inline constexpr const char* kTableMark = "stack,file,night,filter,start,"; ///< how CSV begins
inline constexpr const char* kJsonMark = "{\n \"creator\": \"Kasane ";      ///< how JSON begins

/// Calls `write(temporary)` and, if it returns, syncs the file and renames it to `final_path`. If anything fails the
/// temporary file is removed and a former file under the final name is left as it was. Throws OutputError, and
/// UsageError where a file stands in the way that may not be replaced.
void write_file_safely(const std::filesystem::path& final_path,
                       const std::function<void(const std::filesystem::path& temporary)>& write,
                       Over over = Over::own_work);

/// The same for text or bytes at hand.
void write_text_safely(const std::filesystem::path& final_path, std::string_view text, Over over = Over::own_work);

/// Makes the folder and tries it with an empty file. Throws OutputError that names the folder and the reason.
void require_writable_folder(const std::filesystem::path& folder);

/// Removes temporary files that killed processes left in `folder`; those of processes that still run stay. With `deep`,
/// in the folders below too.
enum class Depth { folder_alone, deep };
void remove_leftovers(const std::filesystem::path& folder, Depth depth = Depth::folder_alone);

} // namespace kasane
