#include <kasane/stages/results.hpp>

#include <kasane/base/error.hpp>
#include <kasane/io/input_file.hpp>

#include <mutex>

namespace fs = std::filesystem;

namespace kasane {

namespace {
std::mutex verified_mutex; // a master light is remembered while others are looked at

bool is_verified(const Session& s, const fs::path& file) {
    const std::lock_guard lock(verified_mutex);
    return s.verified.count(file) > 0;
}

void set_verified(const Session& s, const fs::path& file) {
    const std::lock_guard lock(verified_mutex);
    s.verified.insert(file);
}

std::string intact_name(const Session& s, const fs::path& file) {
    return "intact/" + file.lexically_proximate(s.output).generic_string();
}
} // namespace

bool is_intact(const Session& s, const fs::path& file) {
    if (is_verified(s, file)) return true;
    const auto stamp = file_stamp(file);
    const auto known = s.ledger.choice(intact_name(s, file));
    if (!stamp || !known) return false;
    const auto space = known->find(' ');
    if (space == std::string::npos) return false;
    if (known->substr(0, space) != stamp->text()) {
        const std::string digest = known->substr(space + 1);
        std::string now;
        if (attempt([&] { now = content_digest(file); }) || now != digest) return false;
        s.ledger.set_choice(intact_name(s, file), stamp->text() + " " + digest); // copied, or touched
    }
    set_verified(s, file);
    return true;
}

std::string intact_text(const fs::path& file) {
    const auto stamp = file_stamp(file);
    if (!stamp) throw OutputError("has vanished right after it was written", file, "Run again");
    return stamp->text() + " " + content_digest(file);
}

void remember_intact(const Session& s, const fs::path& file, std::string text) {
    if (text.empty()) text = intact_text(file);
    s.ledger.set_choice(intact_name(s, file), text);
    set_verified(s, file);
}

fs::path light_file(const Session& s, const StackPlan& plan) {
    return s.output / (s.options.preview ? "previews" : "lights") / (plan.name + ".fits");
}

fs::path master_file(const Session& s, const MasterPlan& plan, const std::string& key) {
    // In a library the name tells what it was made of, so that projects do not overwrite each other's.
    const bool shared = !s.recipe.calibration.library.empty();
    return s.masters_folder() / (plan.name + (shared ? "-" + key.substr(0, 8) : "") + ".fits");
}

int result_planes(const Session& s, const StackPlan& plan) {
    return plan.mosaic || s.exposures[plan.lights.front().exposure].planes == 3 ? 3 : 1;
}

} // namespace kasane
