#include <kasane/report/review.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/jpeg.hpp>
#include <kasane/recipe/edit.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/page_assets.hpp>
#include <kasane/report/review_request.hpp>
#include <kasane/report/watch_text.hpp>

#include <array>
#include <charconv>
#include <chrono>
#include <condition_variable>
#include <fmt/format.h>
#include <fstream>
#include <httplib.h>
#include <mutex>
#include <nlohmann/json.hpp>
#include <random>
#include <sstream>
#include <thread>

namespace fs = std::filesystem;

namespace kasane {

namespace {

std::string random_token() {
    std::random_device device; // the system's own source
    std::string out;
    for (int i = 0; i < 4; ++i)
        out += fmt::format("{:08x}", device());
    return out;
}

void restore(const fs::path& file, const std::optional<std::string>& content) {
    if (content) return write_text_safely(file, *content, Over::anything);
    std::error_code failed;
    fs::remove(file, failed);
}

int number_of(const std::string& text) {
    int v = -1;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), v);
    return error == std::errc{} && end == text.data() + text.size() ? v : -1;
}

constexpr const char* kJson = "application/json";
constexpr std::size_t kMostBody = 16 << 20; // bytes of what the page may send

/// A thread for each connection, so that those who connect and say nothing keep nobody waiting; beyond `most` they wait
/// for one another.
class ThreadEach final : public httplib::TaskQueue {
public:
    explicit ThreadEach(std::size_t most) : most_(most) {}
    ~ThreadEach() override { shutdown(); }
    void enqueue(std::function<void()> task) override {
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] { return running_ < most_; });
        ++running_;
        std::thread([this, run = std::move(task)] {
            run();
            const std::lock_guard done(mutex_);
            --running_;
            changed_.notify_all();
        }).detach();
    }
    void shutdown() override {
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] { return running_ == 0; });
    }

private:
    std::mutex mutex_;
    std::condition_variable changed_;
    std::size_t most_, running_ = 0;
};

/// Whether a comet may be marked there, pixels of the file.
void require_inside(const Point& at, const FrameGrade& frame) {
    const int width = frame.measures ? frame.measures->width * frame.cell : 0,
              height = frame.measures ? frame.measures->height * frame.cell : 0;
    if (!(at.x >= -0.5 && at.y >= -0.5 && at.x <= width - 0.5 && at.y <= height - 0.5))
        throw UsageError(fmt::format("the comet is marked outside {}", frame.path), {}, {});
}

} // namespace

struct ReviewServer::Service {
    const Context& context;
    GradeOptions options;
    std::shared_ptr<GradedProject> project; ///< that the page shows
    httplib::Server server;
    std::string token = random_token();
    int port = 0;
    std::mutex mutex; ///< of the project, its report, the history and what is new

    struct Growing { ///< while a night goes on
        std::shared_ptr<GradedProject> newest;
        std::size_t lights = 0; ///< of it
        std::vector<GrowingMaster> masters;
        std::vector<std::string> pictures; ///< JPEG, as masters
    };
    std::optional<Growing> growing;
    int generation = 0; ///< of `project`

    static constexpr std::chrono::seconds kPatience{5}; ///< with a connection that says nothing

    struct Step { ///< what an acceptance replaced, and by what
        std::optional<std::string> verdicts_before, recipe_before, verdicts_after, recipe_after;
    };
    std::vector<Step> history;

    Service(std::shared_ptr<GradedProject> p, const GradeOptions& o, const Context& c, int wanted)
        : context(c), options(o), project(std::move(p)) {
        route();
        const char* kLoopback = "127.0.0.1";
        port = wanted > 0 ? (server.bind_to_port(kLoopback, wanted) ? wanted : -1) : server.bind_to_any_port(kLoopback);
        if (port <= 0)
            throw OutputError(fmt::format("the page cannot be served on port {}", wanted), {},
                              "Another program may use it; leave --port out to take any free one");
    }

    std::string address() const { return fmt::format("http://127.0.0.1:{}/{}/", port, token); }

    fs::path verdicts() const { return verdict_file(options.run.folder); }
    fs::path recipe() const { return recipe_file(options.run.folder); }

    /// Only this machine's browser with this session's token, and pages of our own.
    bool refused(const httplib::Request& request, httplib::Response& response) const {
        const std::string host = request.get_header_value("Host"), origin = request.get_header_value("Origin");
        const bool local = host == fmt::format("127.0.0.1:{}", port) || host == fmt::format("localhost:{}", port);
        const bool own = origin.empty() || origin == "http://" + host;
        std::string_view path = request.path;
        const bool known = path.starts_with("/" + token + "/");
        if (local && own && known) return false;
        response.status = 403;
        response.set_content("This address is not for you. Open the one that 'kasane review' printed.\n", "text/plain");
        return true;
    }

    void route() {
        server.set_payload_max_length(kMostBody);
        constexpr std::size_t kConnections = 512;
        server.new_task_queue = [] { return new ThreadEach(kConnections); };
        server.set_read_timeout(kPatience);
        server.set_write_timeout(kPatience);
        server.set_keep_alive_timeout(kPatience.count());
        server.set_pre_routing_handler([this](const httplib::Request& q, httplib::Response& r) {
            r.set_header("Content-Security-Policy",
                         "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; "
                         "connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'");
            r.set_header("X-Content-Type-Options", "nosniff");
            r.set_header("Referrer-Policy", "no-referrer");
            r.set_header("Cache-Control", "no-store");
            return refused(q, r) ? httplib::Server::HandlerResponse::Handled
                                 : httplib::Server::HandlerResponse::Unhandled;
        });
        server.set_exception_handler([](const httplib::Request&, httplib::Response& r, std::exception_ptr e) {
            std::string text = "something unexpected";
            r.status = 500;
            try {
                std::rethrow_exception(e);
            } catch (const UsageError& u) {
                text = u.what();
                r.status = 400;
            } catch (const std::exception& other) {
                text = other.what();
            } catch (...) {
            }
            r.set_content(json_text({{"error", text}}), kJson);
        });
        const std::string base = "/" + token;
        asset(base + "/", "review.html", "text/html; charset=utf-8");
        for (const char* style : {"look.css", "review.css"})
            asset(base + "/" + style, style, "text/css; charset=utf-8");
        for (const char* script :
             {"chart.min.js", "judging.js", "pictures.js", "comet.js", "profile.js", "growing.js", "review.js"})
            asset(base + "/" + script, script, "text/javascript; charset=utf-8");
        server.Get(base + "/data.json", [this](const auto&, auto& r) {
            const std::lock_guard lock(mutex);
            r.set_content(data(), kJson);
        });
        server.Get(base + "/growing.json", [this](const auto&, auto& r) { tell_growing(r); });
        server.Get(base + R"(/growing/(\d+))", [this](const auto& q, auto& r) {
            const std::lock_guard lock(mutex);
            const int number = number_of(q.matches[1]);
            const auto k = static_cast<std::size_t>(number);
            if (growing && number >= 0 && k < growing->pictures.size() && !growing->pictures[k].empty())
                return r.set_content(growing->pictures[k], "image/jpeg");
            r.status = 404;
        });
        server.Get(base + R"(/preview/(\d+)/(\d+))", [this](const auto& q, auto& r) { preview(q, r); });
        server.Get(base + R"(/picture/(\d+)/(\d+))", [this](const auto& q, auto& r) { picture(q, r); });
        server.Get(base + R"(/stars/(\d+)/(\d+))", [this](const auto& q, auto& r) {
            const std::lock_guard lock(mutex);
            constexpr std::size_t kMost = 500;
            if (const FrameGrade* f = frame_of(q)) return r.set_content(json_text(review_stars(*f, kMost)), kJson);
            r.status = 404;
        });
        server.Get(base + R"(/star/(\d+)/(\d+))", [this](const auto& q, auto& r) { star(q, r); });
        server.Get(base + R"(/rejected/(\d+)/(\d+))", [this](const auto& q, auto& r) {
            const std::lock_guard lock(mutex);
            if (const FrameGrade* f = frame_of(q)) return r.set_content(json_text(review_rejected(*f)), kJson);
            r.status = 404;
        });
        // Bodies are read here: the limit holds however they are sent, in pieces too.
        const auto post = [&](const std::string& path, auto answer) {
            server.Post(path, [answer](const auto&, auto& r, const httplib::ContentReader& read) {
                std::string body;
                const bool whole = read([&](const char* data, std::size_t size) {
                    if (body.size() + size > kMostBody) return false;
                    body.append(data, size);
                    return true;
                });
                if (whole) return answer(body, r);
                r.status = 413;
                r.set_header("Connection", "close");
                r.set_content(json_text({{"error", "that is more than the page sends"}}), kJson);
            });
        };
        post(base + "/accept", [this](const std::string& body, httplib::Response& r) { accept(body, r); });
        post(base + "/newest", [this](const std::string&, httplib::Response& r) { show_newest(r); });
        post(base + "/undo", [this](const std::string&, httplib::Response& r) { undo(r); });
    }

    void asset(const std::string& path, const char* name, const char* type) {
        server.Get(path, [name, type](const auto&, auto& r) {
            const std::string_view bytes = page_asset(name);
            r.set_content(bytes.data(), bytes.size(), type);
        });
    }

    /// All that the page shows. The mutex is held.
    std::string data() const {
        auto out = review_data(project->report);
        out["undo"] = history.size();
        out["generation"] = generation;
        out["growing"] = growing.has_value();
        return json_text(out);
    }

    static std::size_t lights_of(const GradedProject& p) {
        std::size_t n = 0;
        for (const StackGrade& s : p.report.stacks)
            n += s.frames.size();
        return n;
    }

    void tell_growing(httplib::Response& r) {
        const std::lock_guard lock(mutex);
        if (!growing) {
            r.status = 404;
            return;
        }
        nlohmann::json masters = nlohmann::json::array();
        for (const GrowingMaster& m : growing->masters)
            masters.push_back(to_json(m));
        const std::size_t shown = lights_of(*project);
        r.set_content(json_text({{"masters", masters},
                                 {"lights", growing->lights},
                                 {"shown", shown},
                                 {"newer", growing->newest != project && growing->lights != shown}}),
                      kJson);
    }

    /// From now on the page shows the lights that are there now.
    void show_newest(httplib::Response& r) {
        const std::lock_guard lock(mutex);
        if (growing && growing->newest && growing->newest != project) {
            project = growing->newest;
            ++generation;
        }
        read_again(r);
    }

    /// The project that is shown now; requests that take time work on theirs to the end.
    std::shared_ptr<GradedProject> current() {
        const std::lock_guard lock(mutex);
        return project;
    }

    static bool place_of(const GradedProject& p, const httplib::Request& q, std::size_t& stack, std::size_t& frame) {
        const int s = number_of(q.matches[1]), f = number_of(q.matches[2]);
        if (s < 0 || f < 0 || static_cast<std::size_t>(s) >= p.report.stacks.size()) return false;
        stack = static_cast<std::size_t>(s);
        frame = static_cast<std::size_t>(f);
        return frame < p.report.stacks[stack].frames.size();
    }
    const FrameGrade* frame_of(const httplib::Request& q) const {
        std::size_t s = 0, f = 0;
        return place_of(*project, q, s, f) ? &project->report.stacks[s].frames[f] : nullptr;
    }

    void preview(const httplib::Request& q, httplib::Response& r) {
        std::string file;
        {
            const std::lock_guard lock(mutex);
            if (const FrameGrade* f = frame_of(q)) file = f->preview;
        }
        const auto bytes = !file.empty() ? content_of(file) : std::nullopt;
        if (!bytes) {
            r.status = 404;
            return;
        }
        r.set_header("Cache-Control", "private, max-age=86400, immutable");
        r.set_content(*bytes, "image/jpeg");
    }

    void star(const httplib::Request& q, httplib::Response& r) {
        std::size_t s = 0, f = 0;
        const auto value = [&](const char* name) { return q.has_param(name) ? number_of(q.get_param_value(name)) : 0; };
        const auto shown = current();
        const auto look =
            place_of(*shown, q, s, f)
                ? shown->star(s, f, Point{static_cast<double>(value("x")), static_cast<double>(value("y"))},
                              std::clamp(value("r"), 1, 200))
                : std::nullopt;
        if (look) return r.set_content(json_text(star_json(*look)), kJson);
        r.status = 404;
    }

    void picture(const httplib::Request& q, httplib::Response& r) {
        std::size_t s = 0, f = 0;
        const auto shown = current();
        if (!place_of(*shown, q, s, f)) {
            r.status = 404;
            return;
        }
        const auto value = [&](const char* name) { return q.has_param(name) ? number_of(q.get_param_value(name)) : 0; };
        const Region part{value("x"), value("y"), value("w"), value("h")};
        const FramePicture p = shown->picture(s, f, part, q.get_param_value("raw") == "1");
        r.set_header("Kasane-Scale", json_text({{"factor", p.scale.factor},
                                                {"planes", p.scale.planes},
                                                {"zero", p.scale.zero},
                                                {"soft", p.scale.softness},
                                                {"low", p.scale.low},
                                                {"high", p.scale.high}}));
        r.set_content(encode_jpeg(p.pixels, 90), "image/jpeg");
    }

    /// The exposure that a request speaks of. Throws UsageError where there is none.
    const FrameGrade& frame_at(const FramePlace& of) const {
        if (of.stack >= project->report.stacks.size() || of.frame >= project->report.stacks[of.stack].frames.size())
            throw UsageError("what was sent names no exposure of this project", {}, {});
        return project->report.stacks[of.stack].frames[of.frame];
    }

    void accept(const std::string& sent, httplib::Response& r) {
        const std::lock_guard lock(mutex);
        const ReviewRequest request = parse_review_request(sent);
        if (request.generation && *request.generation != generation)
            throw UsageError("the page shows an earlier state than the last one that was asked for", {},
                             "Load it again");
        std::vector<VerdictChange> changes;
        for (const auto& verdict : request.verdicts) {
            const FrameGrade& frame = frame_at(verdict.of);
            changes.push_back({frame.path, frame.content, verdict.decision});
        }
        std::optional<std::string> reference;
        if (request.reference) reference = frame_at(*request.reference).path;
        for (const auto& mark : request.comet)
            if (const FrameGrade& frame = frame_at(mark.of); mark.place) require_inside(*mark.place, frame);
        const auto& limits = request.limits;
        Step step{content_of(verdicts()), content_of(recipe()), {}, {}};
        std::optional<std::string> new_recipe;
        if (limits) new_recipe = recipe_with_limits(step.recipe_before.value_or(""), *limits, recipe());
        if (reference)
            new_recipe =
                recipe_with_reference(new_recipe ? *new_recipe : step.recipe_before.value_or(""), *reference, recipe());
        if (!request.comet.empty()) {
            const std::string before = new_recipe ? *new_recipe : step.recipe_before.value_or("");
            std::vector<CometMark> marks = parse_recipe(before, recipe()).comet;
            for (const auto& mark : request.comet) {
                const std::string& file = frame_at(mark.of).path;
                std::erase_if(marks, [&](const CometMark& m) { return m.file == file; });
                if (mark.place) marks.push_back({file, mark.place->x, mark.place->y});
            }
            new_recipe = recipe_with_comet_marks(before, marks, recipe());
        }
        if (!changes.empty()) save_verdicts(options.run.folder, changes);
        if (new_recipe) write_text_safely(recipe(), *new_recipe, Over::anything);
        step.verdicts_after = content_of(verdicts());
        step.recipe_after = content_of(recipe());
        history.push_back(std::move(step));
        read_again(r);
    }

    void undo(httplib::Response& r) {
        const std::lock_guard lock(mutex);
        if (history.empty()) throw UsageError("there is nothing to undo", {}, {});
        const Step& step = history.back();
        for (const auto& [file, after] :
             {std::pair(verdicts(), step.verdicts_after), std::pair(recipe(), step.recipe_after)})
            if (content_of(file) != after)
                throw UsageError("has been changed since by somebody else, so that it is not set back", file,
                                 "Edit it by hand, then load the page again");
        restore(verdicts(), step.verdicts_before);
        restore(recipe(), step.recipe_before);
        history.pop_back();
        read_again(r);
    }

    /// Judges by what the files say now.
    void read_again(httplib::Response& r) {
        const VerdictFile file = VerdictFile::read(verdicts());
        for (StackGrade& s : project->report.stacks)
            for (FrameGrade& f : s.frames) {
                Exposure e;
                e.path = f.path;
                e.fingerprint = f.content;
                f.decision = file.decision(e);
            }
        const Recipe now = read_recipe(options.run.folder);
        judge_again(project->report, now.grading.limits);
        project->report.comet = now.comet;
        r.set_content(data(), kJson);
    }
};

ReviewServer::ReviewServer(const GradeOptions& options, const Context& context, int port) {
    GradeOptions with_previews = options;
    with_previews.previews = true;
    service_ = std::make_unique<Service>(std::make_shared<GradedProject>(with_previews, context), with_previews,
                                         context, port);
}

ReviewServer::ReviewServer(std::shared_ptr<GradedProject> project, const GradeOptions& options, const Context& context,
                           int port)
    : service_(std::make_unique<Service>(std::move(project), options, context, port)) {}

void ReviewServer::show(const WatchNews& news) {
    if (!news.project) return;
    Service::Growing growing;
    growing.newest = news.project;
    growing.lights = Service::lights_of(*news.project);
    growing.masters = news.masters;
    for (const GrowingMaster& m : news.masters)
        growing.pictures.push_back(m.picture ? encode_jpeg(growing_picture(*m.picture), 90) : std::string());
    const std::lock_guard lock(service_->mutex);
    service_->growing = std::move(growing);
}

ReviewServer::~ReviewServer() {
    stop();
}

std::string ReviewServer::address() const {
    return service_->address();
}

void ReviewServer::serve() {
    std::jthread watch([this](const std::stop_token& token) {
        while (!token.stop_requested()) {
            if (service_->context.workers.cancel().requested()) service_->server.stop();
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
        }
    });
    service_->server.listen_after_bind();
}

void ReviewServer::stop() {
    service_->server.stop();
}

} // namespace kasane
