#include "support/projects.hpp"

#include <fstream>

namespace fs = std::filesystem;

namespace kasane::test {

RunReport run(const fs::path& folder, int threads) {
    const Quiet quiet(threads);
    return run_project({folder, {}, {}}, quiet.context);
}

StatusReport status_of(const fs::path& folder) {
    const Quiet quiet;
    return project_status({folder, {}, {}}, quiet.context);
}

const Finding* find(const std::vector<Finding>& findings, const std::string& code) {
    for (const Finding& f : findings)
        if (f.code == code) return &f;
    return nullptr;
}

void Meddler::begin(const std::string& stage, std::int64_t total) {
    totals[stage] += total;
    for (auto& [name, action] : at)
        if (stage.starts_with(name) && action) {
            const auto now = std::move(action);
            action = nullptr;
            now();
        }
}

void write_recipe(const fs::path& folder, const std::string& text) {
    std::ofstream(folder / "kasane.toml") << text;
}

ProjectCopy::ProjectCopy(const TemporaryFolder& original, const std::function<void(const fs::path&)>& write)
    : path(folder / "project") {
    if (!fs::exists(original / "project")) write(original / "project");
    shell("cp -a " + (original / "project").string() + " " + path.string());
}

} // namespace kasane::test
