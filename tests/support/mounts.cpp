#include "support/mounts.hpp"

#include "support/places.hpp"

#include <fstream>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane::test {

std::optional<Outcome> in_own_mounts(const std::string& script) {
    const std::string apart = ::getuid() == 0 ? "unshare --mount " : "unshare --user --map-root-user --mount ";
    const TemporaryFolder folder;
    const std::string tried = (folder / "tried").string();
    fs::create_directory(tried);
    if (shell(apart + "sh -c 'mount -t tmpfs tmpfs " + tried + " && mount --bind " + tried + " " + tried +
              " && mount -o remount,ro,bind " + tried + "' 2>&1")
            .status != 0)
        return std::nullopt;
    std::string lines = script;
    constexpr std::string_view kMark = "{kasane}";
    for (std::size_t at; (at = lines.find(kMark)) != std::string::npos;)
        lines.replace(at, kMark.size(), kCommand);
    std::ofstream(folder / "script.sh") << lines;
    return shell(apart + "sh " + (folder / "script.sh").string());
}

} // namespace kasane::test
