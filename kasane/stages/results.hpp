// Where results lie, and whether they are still as they were written.
#pragma once

#include <kasane/stages/session.hpp>

#include <filesystem>
#include <string>

namespace kasane {

/// True if a result is as it was written: its stamp is the remembered one, or its bytes are.
bool is_intact(const Session& session, const std::filesystem::path& file);
/// Remembers what a result looks like now that it has been written; `text` is its intact_text, if that was made
/// already.
void remember_intact(const Session& session, const std::filesystem::path& file, std::string text = {});
/// What a file that was written just now is known by. Throws OutputError if it is gone.
std::string intact_text(const std::filesystem::path& file);

/// The file of a master or master light.
std::filesystem::path master_file(const Session& session, const MasterPlan& plan, const std::string& key);
/// A preview's where those are made.
std::filesystem::path light_file(const Session& session, const StackPlan& plan);

/// Planes of a stack's master light: three of mosaics, and of pictures that are in colour already.
int result_planes(const Session& session, const StackPlan& plan);

} // namespace kasane
