// `kasane watch`: lights as they arrive.
#include "common.hpp"

#include <kasane/base/error.hpp>
#include <kasane/project/watch.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/review.hpp>
#include <kasane/report/watch_text.hpp>

#include <algorithm>
#include <cstdlib>
#include <fmt/format.h>
#include <iostream>
#include <nlohmann/json.hpp>
#include <optional>
#include <sys/ioctl.h>
#include <thread>
#include <unistd.h>

namespace kasane::cli {

namespace {

constexpr std::size_t kMostLines = 12; // of one look

/// What stands at the end of the terminal and is drawn anew as it changes; elsewhere lines follow lines.
class Standing {
public:
    /// Lines that stay, and below them what stands.
    void show(const std::string& lines, const WatchNews& news, const std::string& below) {
        if (!terminal_) {
            std::cout << lines;
            if (!lines.empty()) std::cout << watch_table(news.masters, columns());
            std::cout << std::flush;
            return;
        }
        take_away();
        std::cout << lines;
        std::string text = watch_table(news.masters, columns());
        // What stands must fit, or it could not be taken away again.
        const int room = rows() - static_cast<int>(std::count(text.begin(), text.end(), '\n')) - kBeside;
        if (const GrowingMaster* m = latest(news); m && room >= kLowest)
            text += fmt::format("{}: {} light{}\n", m->stack, m->shown, m->shown == 1 ? "" : "s") +
                    terminal_picture(*m->picture, std::min(columns() - 1, kWidest), std::min(room, rows() / 2),
                                     all_colours());
        text += below;
        height_ = static_cast<int>(std::count(text.begin(), text.end(), '\n'));
        std::cout << text << std::flush;
    }

private:
    static constexpr int kWidest = 100; // characters of the picture
    static constexpr int kLowest = 5;   // rows of it
    static constexpr int kBeside = 4;   // rows of what is above and below it

    /// The stack that the newest light is of, if it has a picture; else the one shown before, or any.
    const GrowingMaster* latest(const WatchNews& news) {
        for (const ArrivedLight& l : news.lights)
            if (l.verdict.keep) stack_ = l.stack;
        const GrowingMaster* any = nullptr;
        for (const GrowingMaster& m : news.masters) {
            if (!m.picture) continue;
            if (m.stack == stack_) return &m;
            if (!any) any = &m;
        }
        return any;
    }
    void take_away() const {
        if (height_ > 0) std::cout << fmt::format("\033[{}A\r\033[J", height_);
    }
    static int rows() {
        winsize size{};
        constexpr int kUsual = 40;
        return ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_row > 0 ? size.ws_row : kUsual;
    }
    static bool all_colours() {
        const char* says = std::getenv("COLORTERM");
        return says && (std::string_view(says) == "truecolor" || std::string_view(says) == "24bit");
    }

    bool terminal_ = isatty(STDOUT_FILENO) != 0;
    std::string stack_;
    int height_ = 0;
};

/// The page, from when there are lights on.
class Page {
public:
    Page(const Arguments& a, const GradeOptions& options, const Context& context)
        : a_(a), options_(options), context_(context) {}
    ~Page() {
        if (server_) server_->stop();
    }
    Page(const Page&) = delete;
    Page& operator=(const Page&) = delete;

    void show(const WatchNews& news) {
        if (a_.no_page || !news.project) return;
        const bool first = !server_;
        if (first) server_ = std::make_unique<ReviewServer>(news.project, options_, context_, a_.port);
        server_->show(news);
        if (!first) return;
        serving_ = std::jthread([this] { server_->serve(); });
        if (!a_.json) std::cout << fmt::format("The page is at\n  {}\n", server_->address()) << std::flush;
        if (!a_.no_open && !a_.json) open_browser(server_->address());
    }
    std::string address() const { return server_ ? server_->address() : std::string(); }

private:
    const Arguments& a_;
    const GradeOptions& options_;
    const Context& context_;
    std::unique_ptr<ReviewServer> server_;
    std::jthread serving_;
};

} // namespace

int watch(const Arguments& a, const Context& context) {
    if (a.no_page && a.port > 0)
        throw UsageError("--port is of the page, which --no-page leaves out", {}, "Leave one of them out");
    GradeOptions options = grade_options(a);
    options.previews = !a.no_page;
    Watch night(options, context);
    Page page(a, options, context);
    Standing standing;
    std::string told; // the problem that was told last
    try {
        for (bool begun = false;;) {
            WatchNews news = night.look();
            if (news.problem == told)
                news.problem.clear();
            else
                told = news.problem;
            page.show(news);
            if (a.json) {
                nlohmann::json json = to_json(news);
                if (!page.address().empty()) json["address"] = page.address();
                std::cout << json_text(json) << "\n" << std::flush;
            } else {
                const std::string lines = watch_lines(news, columns(), begun ? kMostLines : 0);
                if (!lines.empty() || !news.masters.empty())
                    standing.show(lines, news,
                                  fmt::format("Watching {}; Ctrl-C ends it\n", options.run.folder.string()));
            }
            begun = begun || news.project;
            night.wait();
        }
    } catch (const Cancelled&) { // as it is meant to end
    }
    if (!a.json)
        std::cout << fmt::format("\nWhat was measured is kept: 'kasane run {}' goes on from here.\n",
                                 options.run.folder.string());
    return Exit::done;
}

} // namespace kasane::cli
