// The `kasane` command.
#include "arguments.hpp"
#include "call.hpp"
#include "manual.hpp"
#include "progress.hpp"
#include "verbs.hpp"

#include <kasane/base/error.hpp>

#include <algorithm>
#include <chrono>
#include <csignal>
#include <iostream>
#include <nlohmann/json.hpp>
#include <spdlog/sinks/stdout_color_sinks.h>
#include <string_view>
#include <thread>
#include <unistd.h>
#include <vector>

namespace {

/// Waits for Ctrl-C or a polite kill on a thread of its own and raises the flag: work stops at the next item and leaves
/// no half file. A second Ctrl-C ends at once, as a kill would; that is said where the first one takes its time.
class StopSignals {
public:
    StopSignals(kasane::CancelToken cancel, std::shared_ptr<spdlog::logger> log) {
        sigemptyset(&set_);
        sigaddset(&set_, SIGINT);
        sigaddset(&set_, SIGTERM);
        pthread_sigmask(SIG_BLOCK, &set_, nullptr);
        thread_ = std::jthread([this, cancel, log = std::move(log)](const std::stop_token& stop) {
            using Clock = std::chrono::steady_clock;
            constexpr std::chrono::seconds kPatience{2};
            Clock::time_point asked{};
            bool told = false;
            while (!stop.stop_requested()) {
                const timespec wait{0, 100000000};
                if (sigtimedwait(&set_, nullptr, &wait) < 0) {
                    if (cancel.requested() && !told && asked != Clock::time_point{} &&
                        Clock::now() - asked > kPatience) {
                        log->warn("still waiting for what was begun, or for a file that does not answer; Ctrl-C again "
                                  "ends at once, and the next run goes on");
                        told = true;
                    }
                    continue;
                }
                asked = Clock::now();
                if (cancel.requested()) _exit(kasane::cli::Exit::not_done);
                cancel.request();
            }
        });
    }

private:
    sigset_t set_{};
    std::jthread thread_;
};

int fail(bool json, const std::shared_ptr<spdlog::logger>& log, const kasane::Error& e, int status) {
    log->error("{}", e.what());
    if (json)
        std::cout << nlohmann::json{{"error",
                                     {{"text", e.what_failed()}, {"file", e.file().string()}, {"remedy", e.remedy()}}}}
                         .dump(1, ' ', false, nlohmann::json::error_handler_t::replace)
                  << "\n";
    return status;
}

} // namespace

int main(int argc, char** argv) {
    using namespace kasane;
    using cli::Exit;
    auto log = spdlog::stderr_color_mt("kasane");
    log->set_pattern("%^%n: %v%$");

    cli::Arguments arguments;
    CLI::App app{"Kasane makes clean master lights from raw deep-sky exposures.", "kasane"};
    cli::describe(app, arguments);
    // Known before the rest is parsed: what is wrong with a call is told as the caller wants it.
    const bool json =
        std::any_of(argv + 1, argv + argc, [](const char* word) { return std::string_view(word) == "--json"; });
    try {
        if (argc == 3 && argv[1] == std::string_view("--completion")) {
            std::cout << cli::completion_script(app, argv[2]);
            return Exit::done;
        }
        if (argc == 3 && argv[1] == std::string_view("--manual-pages")) {
            cli::write_manual_pages(app, argv[2]);
            return Exit::done;
        }
        std::vector<std::string> words = cli::ordered_words(app, argc, argv);
        std::reverse(words.begin(), words.end()); // as the parser takes them
        app.parse(words);
    } catch (const CLI::ParseError& e) {
        if (e.get_exit_code() != 0 && json)
            return fail(json, log, UsageError(e.what(), {}, "See --help"), Exit::wrong_call);
        const int status = app.exit(e);
        return status == 0 ? Exit::done : Exit::wrong_call;
    } catch (const UsageError& e) {
        return fail(json, log, e, Exit::wrong_call);
    } catch (const Error& e) {
        return fail(json, log, e, Exit::not_done);
    }
    try {
        const CancelToken cancel;
        const StopSignals signals(cancel, log);
        const Workers workers(arguments.threads, cancel);
        cli::TerminalProgress progress(log, arguments.quiet);
        const MemoryBudget memory =
            arguments.memory.empty() ? default_budget() : MemoryBudget{cli::memory_bytes(arguments.memory)};
        return cli::run_verb(arguments, {workers, memory, progress});
    } catch (const UsageError& e) {
        return fail(arguments.json, log, e, Exit::wrong_call);
    } catch (const Error& e) {
        return fail(arguments.json, log, e, Exit::not_done);
    } catch (const std::bad_alloc&) {
        return fail(arguments.json, log,
                    Error("memory ran out", {}, "Give less with --memory, or close other programs"), Exit::not_done);
    } catch (const std::exception& e) {
        return fail(
            arguments.json, log,
            Error(std::string("something unexpected: ") + e.what(), {}, "Please report it with the command you gave"),
            Exit::not_done);
    }
}
