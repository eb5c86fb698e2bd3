// What a project remembers and keeps beside its results, how much that is, and letting go of it.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/stages/options.hpp>

#include <cstdint>
#include <string>
#include <vector>

namespace kasane {

/// One kind of what lies in the folder `.kasane` of a project.
struct Holding {
    std::string name;        ///< "ledger", "cache", "previews", "former", "put aside"
    std::string what;        ///< for people
    std::uint64_t bytes = 0; ///< on disk
    int files = 0;
};

/// What the folder holds of each kind; kinds of which there is nothing are left out.
std::vector<Holding> holdings(const RunOptions& options);

/// What can be made again, or that nothing asks for.
struct ForgetOptions {
    bool cache = false;    ///< decoded pixels; files are decoded again when they are read next
    bool previews = false; ///< of lights, and pictures of former master lights; lights are measured again for new ones
    bool results = false;  ///< masters, master lights and images that nothing asks for any more
    bool remove = false;   ///< false: they are named only
};

struct ForgetReport {
    struct File {
        std::string kind; ///< "cache", "previews", "results"
        std::string path;
        std::uint64_t bytes = 0;
        std::string problem; ///< why it could not be removed
    };
    std::string folder;
    std::vector<File> files;
    bool removed = false;        ///< what has no problem is gone
    std::uint64_t bytes() const; ///< of all files without a problem
};

/// Names what would go, and removes it where that is asked for. Only files that Kasane wrote, by their names in its own
/// folder and by their own marks among the results; never a recipe, verdicts, marks, or what the ledger knows. Throws
/// as check_project does, and UsageError while another run works on the project.
ForgetReport forget(const RunOptions& run, const ForgetOptions& options, const Context& context);

} // namespace kasane
