// Writing without half files: under a temporary name in the final folder, synced, then renamed.
#pragma once

#include <filesystem>
#include <functional>
#include <string_view>

namespace kasane {

/// Calls `write(temporary)` and, if it returns, syncs the file and renames it to `final_path`. If anything fails the
/// temporary file is removed and a former file under the final name is left as it was. Throws OutputError.
void write_file_safely(const std::filesystem::path& final_path,
                       const std::function<void(const std::filesystem::path& temporary)>& write);

/// The same for text or bytes at hand.
void write_text_safely(const std::filesystem::path& final_path, std::string_view text);

/// Makes the folder and tries it with an empty file. Throws OutputError that names the folder and the reason.
void require_writable_folder(const std::filesystem::path& folder);

/// Removes temporary files that a killed run left in `folder`.
void remove_leftovers(const std::filesystem::path& folder);

} // namespace kasane
