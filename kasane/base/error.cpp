#include <kasane/base/error.hpp>

#include <fmt/format.h>

namespace kasane {

namespace {
std::string sentence(const std::string& what_failed, const std::filesystem::path& file, const std::string& remedy) {
    std::string text = file.empty() ? what_failed : fmt::format("{}: {}", file.string(), what_failed);
    if (!remedy.empty()) text += fmt::format(". {}", remedy);
    return text;
}
} // namespace

Error::Error(std::string what_failed, std::filesystem::path file, std::string remedy)
    : std::runtime_error(sentence(what_failed, file, remedy)), what_failed_(std::move(what_failed)),
      file_(std::move(file)), remedy_(std::move(remedy)) {}

FileFailure FileFailure::of(const InputError& e) {
    return {e.file(), e.what_failed(), e.remedy(), dynamic_cast<const UnfitError*>(&e) != nullptr};
}

void FileFailure::raise() const {
    if (unfit) throw UnfitError(what_failed, file, remedy);
    throw InputError(what_failed, file, remedy);
}

} // namespace kasane
