// Keep or drop: limits and people together.
#pragma once

#include <kasane/grading/limits.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// What a person decided about an exposure; it stands over all limits.
struct Decision {
    bool keep = true;
    std::string note;
};

/// One exposure of a stack before the judge.
struct Candidature {
    const Figures* figures = nullptr; ///< null: it could not be measured
    std::string night, filter;
    std::string hindrance; ///< why it cannot be used whatever anyone wants; empty: it can
    std::optional<Decision> person;
    int kin = 0; ///< which of the stack's kinds (length, panel): exposures are held against those of their own
};

enum class Author { nobody, limit, person, impossible };

/// As it is written in tables and JSON; empty for nobody.
std::string_view author_name(Author author);

struct Verdict {
    bool keep = true;
    Author author = Author::nobody; ///< who decided; nobody: kept, and nothing spoke against it
    std::string reason;             ///< in words; empty when kept by nobody
    std::vector<int> limits;        ///< that would drop it, by index, also where a person keeps it
};

/// Judges the exposures of one stack together, those of each kind by themselves. A verdict of a person stands; what
/// cannot be measured or registered cannot be kept by anyone. Rankings rank what the other limits and people leave to
/// them.
std::vector<Verdict> judge(const std::vector<Candidature>& stack, const std::vector<Limit>& limits);

} // namespace kasane
