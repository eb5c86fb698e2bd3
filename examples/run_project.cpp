// Runs a whole project, from raw exposures to master lights, and tells what came of it.
//
//   run_project FOLDER
#include <kasane/base/error.hpp>
#include <kasane/project/run.hpp>

#include <iostream>

namespace {

/// What is being done, as it begins; see Progress for what else it can tell.
struct Told : kasane::Progress {
    void begin(const std::string& stage, std::int64_t total) override {
        std::cerr << stage << " " << total << " ...\n";
    }
};

} // namespace

int main(int argc, char** argv) try {
    if (argc != 2) {
        std::cerr << "usage: run_project FOLDER\n";
        return 2;
    }
    kasane::RunOptions options;
    options.folder = argv[1];
    // Any thread may ask for the end: cancel.request() ends the work at the next item, with nothing half done.
    const kasane::CancelToken cancel;
    const kasane::Workers workers(0, cancel); // all cores
    Told progress;
    const kasane::RunReport report = kasane::run_project(options, {workers, kasane::default_budget(), progress});
    for (const kasane::StackReport& stack : report.stacks)
        std::cout << stack.name << ": " << stack.used << " lights, " << stack.seconds_total << " s, noise "
                  << stack.noise << " ADU, FWHM " << stack.fwhm
                  << " pixels: " << (stack.file.empty() ? "no master light" : report.output + "/" + stack.file) << "\n";
    for (const kasane::Finding& finding : report.findings)
        std::cout << "  " << (finding.files.empty() ? std::string() : finding.files.front() + ": ") << finding.text
                  << "\n";
    return report.clean() ? 0 : 1;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
