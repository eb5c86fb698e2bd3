#include "support/mounts.hpp"

#include "support/places.hpp"

#include <fstream>
#include <unistd.h>

namespace kasane::test {

std::optional<Outcome> in_own_mounts(const std::string& script) {
    const std::string apart = ::getuid() == 0 ? "unshare --mount " : "unshare --user --map-root-user --mount ";
    if (shell(apart + "true 2>&1").status != 0) return std::nullopt;
    const TemporaryFolder folder;
    std::string lines = script;
    constexpr std::string_view kMark = "{kasane}";
    for (std::size_t at; (at = lines.find(kMark)) != std::string::npos;)
        lines.replace(at, kMark.size(), kCommand);
    std::ofstream(folder / "script.sh") << lines;
    return shell(apart + "sh " + (folder / "script.sh").string());
}

} // namespace kasane::test
