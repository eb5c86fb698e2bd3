#include <kasane/pairing/findings.hpp>

namespace kasane {

std::string_view level_name(Level level) {
    switch (level) {
    case Level::note:
        return "note";
    case Level::warning:
        return "warning";
    case Level::blocker:
        return "blocker";
    }
    return "note";
}

} // namespace kasane
