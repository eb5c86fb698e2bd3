// What the review page sends when what was changed on it is to be kept.
#pragma once

#include <kasane/geometry/affine.hpp>
#include <kasane/recipe/verdicts.hpp>

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// An exposure by its place in the report of the project.
struct FramePlace {
    std::size_t stack = 0, frame = 0;
};

struct ReviewRequest {
    struct Verdict {
        FramePlace of;
        std::optional<Decision> decision; ///< nothing: none by hand
    };
    struct Mark {
        FramePlace of;
        std::optional<Point> place; ///< of the comet, pixels of the file; nothing: no mark any more
    };
    std::optional<std::int64_t> generation; ///< the state that the page shows
    std::vector<Verdict> verdicts;
    std::optional<std::vector<std::string>> limits;
    std::optional<FramePlace> reference;
    std::vector<Mark> comet;
};

/// {"generation": 1, "decisions": [{"stack": 0, "frame": 3, "verdict": "drop", "note": ""}], "limits": ["..."] or null,
///  "reference": {"stack": 0, "frame": 3} or null, "comet": [{"stack": 0, "frame": 3, "at": [312.4, 204.0] or null}]}.
/// Throws UsageError for anything else.
ReviewRequest parse_review_request(const std::string& text);

} // namespace kasane
