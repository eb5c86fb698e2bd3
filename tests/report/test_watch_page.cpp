// A night that is watched, on the review page and in the terminal.
#include "support/projects.hpp"
#include "support/webdriver.hpp"

#include <kasane/report/review.hpp>
#include <kasane/report/watch_text.hpp>

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <fstream>
#include <httplib.h>
#include <nlohmann/json.hpp>
#include <sstream>
#include <thread>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

/// A watch with its page; the last two lights are yet to come.
struct Watched {
    TemporaryFolder folder;
    Quiet quiet;
    GradeOptions options;
    std::unique_ptr<Watch> watch;
    std::unique_ptr<ReviewServer> server;
    std::thread thread;

    Watched() {
        write_small_project(folder / "p");
        options.run.folder = folder / "p";
        options.previews = true;
        fs::create_directories(folder / "later");
        for (const char* name : {"L_009.fits", "L_010.fits"})
            fs::rename(lights() / name, folder / "later" / name);
        watch = std::make_unique<Watch>(options, quiet.context, WatchOptions{std::chrono::milliseconds(30)});
        const WatchNews news = watch->look();
        REQUIRE(news.project);
        server = std::make_unique<ReviewServer>(news.project, options, quiet.context);
        server->show(news);
        thread = std::thread([this] { server->serve(); });
    }
    ~Watched() {
        server->stop();
        thread.join();
    }
    fs::path lights() const { return folder / "p/night-1/lights"; }
    void comes(const char* name) {
        fs::copy_file(folder / "later" / name, lights() / name);
        watch->wait();
        server->show(watch->look());
    }
    httplib::Client client() const { return httplib::Client("127.0.0.1", std::stoi(server->address().substr(17))); }
    std::string base() const { return server->address().substr(server->address().find('/', 8)); }
};

} // namespace

TEST_CASE("The page of a watch tells what is new and shows it when it is asked to") {
    Watched w;
    auto c = w.client();
    auto state = nlohmann::json::parse(c.Get(w.base() + "growing.json")->body);
    CHECK(state["newer"] == false);
    CHECK(state["masters"][0]["kept"] == 8);
    CHECK(c.Get(w.base() + "growing/0")->body.starts_with("\xff\xd8"));
    CHECK(c.Get(w.base() + "growing/7")->status == 404);
    CHECK(c.Get(w.base() + "growing/99999999999999")->status == 404);
    const auto data = nlohmann::json::parse(c.Get(w.base() + "data.json")->body);
    CHECK(data["growing"] == true);

    w.comes("L_009.fits");
    state = nlohmann::json::parse(c.Get(w.base() + "growing.json")->body);
    CHECK(state["newer"] == true);
    CHECK(state["lights"] == 9);
    CHECK(state["shown"] == 8);
    // Until then numbers mean what they meant.
    CHECK(nlohmann::json::parse(c.Get(w.base() + "data.json")->body)["stacks"][0]["frames"].size() == 8);
    const auto newest = nlohmann::json::parse(c.Post(w.base() + "newest", "", "application/json")->body);
    CHECK(newest["stacks"][0]["frames"].size() == 9);
    CHECK(newest["generation"] != data["generation"]);
    // A page that was loaded before is not believed: its numbers may mean other lights.
    const nlohmann::json old = {{"generation", data["generation"]},
                                {"decisions", {{{"stack", 0}, {"frame", 3}, {"verdict", "drop"}}}},
                                {"limits", nullptr}};
    const auto refused = c.Post(w.base() + "accept", old.dump(), "application/json");
    CHECK(refused->status == 400);
    CHECK_THAT(refused->body, Catch::Contains("Load it again"));
    CHECK_FALSE(fs::exists(w.folder / "p/verdicts.toml"));
    nlohmann::json now = old;
    now["generation"] = newest["generation"];
    CHECK(c.Post(w.base() + "accept", now.dump(), "application/json")->status == 200);
    CHECK(fs::exists(w.folder / "p/verdicts.toml"));
    // What was decided there is news for the watch, and no new light for the page.
    w.watch->wait();
    const WatchNews news = w.watch->look();
    CHECK(news.lights.size() == 1);
    w.server->show(news);
    state = nlohmann::json::parse(c.Get(w.base() + "growing.json")->body);
    CHECK(state["newer"] == false);
    CHECK(state["masters"][0]["dropped"] == 1);
}

TEST_CASE("In the browser: a night that is watched grows, and new lights come when they are asked for") {
    Watched w;
    Browser b;
    b.open(w.server->address());
    REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));
    CHECK(b.run("return document.getElementById('newest').hidden") == true);
    REQUIRE(b.wait_for(
        "const i = document.querySelector('#growingpicture img'); return i && i.complete && i.naturalWidth > 0"));
    CHECK_THAT(b.run("return document.getElementById('growingtext').textContent").get<std::string>(),
               Catch::StartsWith("8 kept, 0 dropped"));
    w.comes("L_009.fits");
    w.comes("L_010.fits");
    REQUIRE(b.wait_for("return !document.getElementById('newest').hidden"));
    REQUIRE(b.wait_for("return document.getElementById('newest').textContent === '2 new lights'"));
    CHECK_THAT(b.run("return document.getElementById('growingtext').textContent").get<std::string>(),
               Catch::StartsWith("10 kept, 0 dropped"));
    // Not over what is not saved.
    b.run("kasaneState.decide('drop')");
    b.run("document.getElementById('newest').click()");
    CHECK(b.wait_for("return /not saved/.test(document.getElementById('message').textContent)"));
    CHECK(b.run("return kasaneState.data().stacks[0].frames.length") == 8);
    b.run("document.getElementById('discard').click(); document.getElementById('newest').click()");
    REQUIRE(b.wait_for("return kasaneState.data().stacks[0].frames.length === 10"));
    CHECK(b.wait_for("return document.getElementById('newest').hidden"));
    CHECK(b.run("return document.getElementById('kept').textContent") == "10 of 10 kept");
    CHECK(b.run("return kasaneState.S.current") == 9); // the newest one
    CHECK(b.run("return document.querySelectorAll('#stacks button').length") == 1);
}

TEST_CASE("The page of a review that nothing watches has nothing that grows") {
    const TemporaryFolder folder;
    write_small_project(folder / "p");
    GradeOptions o;
    o.run.folder = folder / "p";
    const Quiet quiet;
    ReviewServer server(o, quiet.context);
    std::thread thread([&] { server.serve(); });
    httplib::Client c("127.0.0.1", std::stoi(server.address().substr(17)));
    const std::string base = server.address().substr(server.address().find('/', 8));
    CHECK(c.Get(base + "growing.json")->status == 404);
    CHECK(c.Get(base + "growing/0")->status == 404);
    CHECK(nlohmann::json::parse(c.Get(base + "data.json")->body)["growing"] == false);
    CHECK(c.Post(base + "newest", "", "application/json")->status == 200); // the same once more
    server.stop();
    thread.join();
}

TEST_CASE("Arrived lights are lines that fit, and header text does not steer the terminal") {
    WatchNews news;
    for (int k = 0; k < 20; ++k) {
        ArrivedLight l;
        l.filter = "L";
        l.path = fmt::format("lights/\x1b[31mL_{:03d}.fits", k);
        l.start = "2031-03-12T21:04:05";
        l.figures[Measure::fwhm] = 2.5;
        l.verdict.keep = k != 19;
        l.verdict.reason =
            k == 19 ? "fwhm 4.8 px > 3.1 px, which is 1.3 x the median of its night, and more words than fit" : "";
        news.lights.push_back(l);
    }
    news.problem = "another run works on this project: /p. Wait for it";
    const std::string text = watch_lines(news, 80);
    CHECK(text.find('\x1b') == std::string::npos);
    CHECK_THAT(text, Catch::StartsWith("8 lights came, and then\n21:04  L"));
    CHECK_THAT(text, Catch::Contains("FWHM 2.50") && Catch::Contains("dropped: fwhm 4.8 px") &&
                         Catch::Contains("another run works"));
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);)
        CHECK(line.size() <= 80);
    CHECK(watch_lines({}, 80).empty());
    CHECK(watch_table({}, 80).empty());
}

TEST_CASE("A picture in a terminal has its size and its brightness") {
    Image image(300, 200);
    for (int y = 0; y < 200; ++y)
        for (int x = 0; x < 300; ++x)
            image(x, y) = static_cast<float>(100 + (x > 150 ? 400 : 0) + (x * 7 + y * 13) % 5);
    const std::string text = terminal_picture(image, 60, 20, true);
    std::istringstream in(text);
    int rows = 0;
    for (std::string line; std::getline(in, line); ++rows) {
        std::size_t cells = 0;
        for (std::size_t at = line.find("▀"); at != std::string::npos; at = line.find("▀", at + 1))
            ++cells;
        CHECK(cells == 60); // means of 5 x 5 pixels
        CHECK(line.ends_with("\033[0m"));
        const auto colour = [&](std::size_t at) { return std::stoi(line.substr(at + 5)); };
        CHECK(colour(line.find("38;2;")) < colour(line.rfind("38;2;")));
    }
    CHECK(rows == 20); // two to a row
    CHECK_THAT(terminal_picture(image, 60, 20, false), Catch::Contains("38;5;2"));
    CHECK(terminal_picture({}, 60, 20, true).empty());
    CHECK(terminal_picture(image, 0, 20, true).empty());
}
