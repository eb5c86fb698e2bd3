// The review page: what the server refuses, and the page itself in a real browser.
#include "support/support.hpp"
#include "support/webdriver.hpp"

#include <kasane/base/error.hpp>
#include <kasane/recipe/recipe.hpp>
#include <kasane/report/review.hpp>

#include <arpa/inet.h>
#include <catch2/catch.hpp>
#include <chrono>
#include <fmt/format.h>
#include <fstream>
#include <httplib.h>
#include <iostream>
#include <sys/socket.h>
#include <thread>
#include <unistd.h>

using namespace kasane;
using namespace kasane::test;
namespace fs = std::filesystem;

namespace {

constexpr const char* kMarkup = "</script><img src=x onerror=\"window.broken=1\"><b>Nebula";
constexpr const char* kControl = "\xEE\x80\x89";
constexpr const char* kEnter = "\xEE\x80\x87";

/// Whether a script that gets into the page by itself would run.
constexpr const char* kSlipsIn = "const s = document.createElement('script'); s.textContent = 'window.slipped = 1';"
                                 "document.body.append(s); const d = document.createElement('div');"
                                 "d.innerHTML = '<b onclick=\"window.slipped = 1\">x</b>'; document.body.append(d);"
                                 "d.firstChild.click(); return window.slipped === 1";

/// A project of 14 lights, one of them in cloud, whose target's name tries to be markup.
void write_project(const fs::path& folder) {
    const Quiet quiet;
    sky::PlainOptions o = small_options();
    o.lights = 14;
    o.calibration = 5;
    o.dither = 4;
    sky::Scenario s = sky::plain_scenario(o);
    s.target = kMarkup;
    for (sky::Shot& shot : s.shots)
        if (shot.path.ends_with("L_005.fits")) shot.conditions.transparency = 0.25;
    sky::write_scenario(s, folder, quiet.context);
}

/// The server on a thread of its own.
struct Served {
    TemporaryFolder folder;
    Quiet quiet;
    std::unique_ptr<ReviewServer> server;
    std::thread thread;
    explicit Served(const std::function<void(const fs::path&)>& write = write_project) {
        write(folder / "p");
        GradeOptions o;
        o.run.folder = folder / "p";
        server = std::make_unique<ReviewServer>(o, quiet.context);
        thread = std::thread([this] { server->serve(); });
    }
    ~Served() {
        server->stop();
        thread.join();
    }
    /// What comes back for bytes sent as they are, up to the end or a second's silence.
    std::string answer(const std::string& request) const {
        const int fd = ::socket(AF_INET, SOCK_STREAM, 0);
        sockaddr_in to{};
        to.sin_family = AF_INET;
        to.sin_port = htons(static_cast<std::uint16_t>(port()));
        to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        const timeval patience{1, 0};
        ::setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
        std::string out;
        if (::connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to) == 0 &&
            ::send(fd, request.data(), request.size(), MSG_NOSIGNAL) > 0)
            for (char block[4096];;) {
                const auto n = ::recv(fd, block, sizeof block, 0);
                if (n <= 0) break;
                out.append(block, static_cast<std::size_t>(n));
            }
        ::close(fd);
        return out;
    }
    fs::path project() const { return folder / "p"; }
    int port() const { return std::stoi(server->address().substr(17)); }
    std::string base() const { return server->address().substr(server->address().find('/', 8)); }
    httplib::Client client() const { return httplib::Client("127.0.0.1", port()); }
};

} // namespace

TEST_CASE("The server answers its own page alone") {
    const Served s;
    const auto before = digests(s.project());
    auto c = s.client();
    const std::string base = s.base();
    CHECK(base.size() == 34); // 128 bits
    CHECK(c.Get(base)->status == 200);
    CHECK(c.Get(base)->get_header_value("Content-Security-Policy").find("default-src 'none'") == 0);
    CHECK(c.Get(base)->get_header_value("Content-Security-Policy").find("unsafe") == std::string::npos);
    CHECK(c.Get("/")->status == 403);
    CHECK(c.Get("/data.json")->status == 403);
    std::string wrong = base;
    wrong[5] = wrong[5] == '0' ? '1' : '0';
    CHECK(c.Get(wrong + "data.json")->status == 403);
    CHECK(c.Get(base + "data.json", {{"Host", "example.org"}})->status == 403);
    CHECK(c.Get(base + "data.json", {{"Origin", "http://example.org"}})->status == 403);
    CHECK(c.Post(base + "accept", {{"Origin", "http://example.org"}}, "{}", "application/json")->status == 403);
    for (const char* path : {"../kasane.toml", "preview/0/../../../../etc/passwd", "preview/0/-1", "preview/0/99",
                             "preview/9/0", "%2e%2e/%2e%2e/etc/passwd", "picture/0/99", "preview/0/0x"}) {
        INFO(path);
        const auto r = c.Get(base + path);
        CHECK((r->status == 404 || r->status == 403));
    }
    CHECK(c.Get(base + "preview/0/0")->body.substr(0, 2) == "\xff\xd8");
    CHECK(c.Get(base + "picture/0/0?x=10&y=10&w=64&h=48")->status == 200);
    CHECK(c.Get(base + "picture/0/0?raw=1")->status == 200);
    CHECK(c.Get(base + "picture/0/0?x=100000&y=0&w=10&h=10")->status == 400);
    CHECK(c.Get(base + "picture/0/0?x=-5&y=zz&w=1e9&h=99999999999999")->status == 200); // no rectangle: the whole frame
    for (const char* body :
         {"", "[]", "{\"decisions\": 3}",
          "{\"decisions\": [{\"stack\": 0, \"frame\": 77, \"verdict\": \"drop\"}], \"limits\": null}",
          "{\"decisions\": [], \"limits\": [\"nonsense > 3\"]}"})
        CHECK(c.Post(base + "accept", body, "application/json")->status == 400);
    CHECK(c.Post(base + "undo", "", "application/json")->status == 400);
    CHECK(digests(s.project()) == before); // nothing came of all that
}

TEST_CASE("Requests that no browser sends get nothing, and change nothing") {
    const Served s;
    const auto before = digests(s.project());
    const std::string base = s.base(), host = fmt::format("Host: 127.0.0.1:{}\r\n", s.port()), end = "\r\n";
    REQUIRE_THAT(s.answer("GET " + base + " HTTP/1.1\r\n" + host + "Connection: close\r\n" + end),
                 Catch::StartsWith("HTTP/1.1 200"));
    const std::vector<std::string> requests = {
        "GET " + base + "data.json HTTP/1.1\r\n" + end, // no host
        "GET http://example.org" + base + "data.json HTTP/1.1\r\nHost: example.org\r\n" + end,
        "GET //example.org" + base + "data.json HTTP/1.1\r\n" + host + end,
        "GET " + base + "data.json HTTP/1.1\r\nHost: 127.0.0.1:1\r\n" + end,
        "GET " + base + "data.json HTTP/1.1\r\n" + host + "Origin: null\r\n" + end,
        "PUT " + base + "accept HTTP/1.1\r\n" + host + "Content-Length: 2\r\n\r\n{}",
        "DELETE " + base + "data.json HTTP/1.1\r\n" + host + end,
        "TRACE " + base + " HTTP/1.1\r\n" + host + end,
        "CONNECT example.org:443 HTTP/1.1\r\n" + host + end,
        "GET " + base + std::string(100000, 'a') + " HTTP/1.1\r\n" + host + end,
        "GET " + base + " HTTP/1.1\r\n" + host + "X: " + std::string(1 << 20, 'b') + end + end,
        "GET " + base + "..%2f..%2f..%2fetc%2fpasswd HTTP/1.1\r\n" + host + end,
        "GET " + base + "preview/0/..%00 HTTP/1.1\r\n" + host + end,
        "POST " + base + "accept HTTP/1.1\r\n" + host + "Content-Length: -1\r\n\r\n{}",
        "POST " + base + "accept HTTP/1.1\r\n" + host + "Content-Length: 18446744073709551615\r\n\r\n{}",
        "POST " + base + "accept HTTP/1.1\r\n" + host + "Transfer-Encoding: chunked\r\n\r\nffffffffffffffff\r\n{}",
        std::string("\0\1\2\3", 4) + std::string(5000, '\xff'),
        "GET\r\n\r\n",
        "\r\n\r\n\r\n"};
    for (const std::string& request : requests) {
        INFO(request.substr(0, 200));
        CHECK_THAT(s.answer(request), !Catch::StartsWith("HTTP/1.1 2"));
    }
    CHECK(s.client().Get(base)->status == 200); // it still serves its own
    CHECK(digests(s.project()) == before);
}

TEST_CASE("An acceptance is written and can be undone, unless others wrote since") {
    const Served s;
    auto c = s.client();
    const std::string own = "# mine\n[project]\ntime_zone = 1\n";
    std::ofstream(s.project() / "kasane.toml") << own;
    const auto post = [&](const std::string& path, const std::string& body) {
        return c.Post(s.base() + path, body, "application/json");
    };
    CHECK(post("accept", R"({"decisions": [{"stack": 0, "frame": 2, "verdict": "drop"}], "limits": ["fwhm > 9 px"]})")
              ->status == 200);
    CHECK_THAT(read_file(s.project() / "verdicts.toml"), Catch::Contains("L_003.fits") && Catch::Contains("drop"));
    CHECK(read_recipe(s.project()).grading.limits == std::vector<std::string>{"fwhm > 9 px"});
    CHECK_THAT(read_file(s.project() / "kasane.toml"), Catch::StartsWith("# mine"));
    CHECK(post("undo", "")->status == 200);
    CHECK(read_file(s.project() / "kasane.toml") == own);
    CHECK_FALSE(fs::exists(s.project() / "verdicts.toml"));
    CHECK(post("accept", R"({"decisions": [], "limits": ["fwhm > 8 px"], "reference": {"stack": 0, "frame": 4}})")
              ->status == 200);
    CHECK(read_recipe(s.project()).registration.reference == "night-1/lights/L_005.fits");
    CHECK(read_recipe(s.project()).grading.limits == std::vector<std::string>{"fwhm > 8 px"});
    CHECK(post("undo", "")->status == 200);
    CHECK(read_file(s.project() / "kasane.toml") == own);
    CHECK(post("accept", R"({"decisions": [], "limits": null, "reference": {"stack": 0, "frame": 99}})")->status ==
          400);
    CHECK(read_file(s.project() / "kasane.toml") == own);
    CHECK(post("accept", R"({"decisions": [{"stack": 0, "frame": 2, "verdict": "drop"}], "limits": null})")->status ==
          200);
    std::ofstream(s.project() / "verdicts.toml", std::ios::app) << "# a note\n";
    CHECK(post("undo", "")->status == 400);
    CHECK_THAT(read_file(s.project() / "verdicts.toml"), Catch::Contains("# a note"));
}

TEST_CASE("In the browser: limits, verdicts, keys, undo, markup in headers does nothing") {
    const Served s;
    Browser b;
    b.open(s.server->address());
    REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));
    CHECK(b.run("return document.getElementById('kept').textContent") == "13 of 14 kept");
    CHECK(b.run("return document.getElementById('accept').disabled") == true);
    CHECK(b.wait_for("return kasaneState.S.verdicts.length === 14"));
    CHECK(b.run("return window.broken === undefined && document.querySelectorAll('img, b b').length === 0") == true);
    CHECK(b.run("return document.querySelector('#stacks button').title").get<std::string>().find("script") !=
          std::string::npos); // it is there, as text

    // The page judges as the library does, whatever the limits.
    const Quiet quiet;
    for (const std::string limit :
         {"fwhm > 3.02 px", "stars < 0.9 x best", "worth < median - 1 spread", "best 7 by snr"}) {
        INFO(limit);
        GradeOptions o;
        o.run.folder = s.project();
        o.limits = {limit};
        const GradeReport r = grade_project(o, quiet.context);
        const auto c = s.client().Post(
            s.base() + "accept", nlohmann::json{{"decisions", nlohmann::json::array()}, {"limits", {limit}}}.dump(),
            "application/json");
        REQUIRE(c->status == 200);
        b.open(s.server->address());
        REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));
        CHECK(b.run("return document.getElementById('kept').textContent") ==
              fmt::format("{} of 14 kept", r.stacks[0].kept.frames));
        CHECK(b.run("return kasaneState.S.now.noise").get<double>() == Approx(r.stacks[0].kept.noise).epsilon(1e-4));
        CHECK(b.run("return kasaneState.S.now.fwhm").get<double>() == Approx(r.stacks[0].kept.fwhm).epsilon(1e-4));
        s.client().Post(s.base() + "undo", "", "application/json");
    }
    b.open(s.server->address());
    REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));

    // A limit is moved: counts follow at once, files only when it is accepted.
    b.press("3");
    REQUIRE(b.wait_for("return document.querySelectorAll('#limitlist li').length === 8"));
    b.run("const i = document.querySelectorAll('#limitlist li')[7].querySelector('input[type=number]'); i.value = 0.5; "
          "i.dispatchEvent(new Event('input'))"); // fwhm > 0.5 x night median: everything
    CHECK(b.run("return document.getElementById('kept').textContent") == "0 of 14 kept");
    CHECK_FALSE(fs::exists(s.project() / "kasane.toml"));
    b.press(kEnter, kControl);
    REQUIRE(b.wait_for("return document.getElementById('accept').disabled"));
    CHECK(read_recipe(s.project()).grading.limits.back() == "fwhm > 0.5 x night median");
    b.press("z", kControl);
    REQUIRE(b.wait_for("return document.getElementById('kept').textContent === '13 of 14 kept'"));
    CHECK_FALSE(fs::exists(s.project() / "kasane.toml"));

    // Flip, drop one, accept, undo: with the keyboard alone.
    b.press("\xEE\x80\x91"); // home
    b.press("\xEE\x80\x94"); // right
    b.press("\xEE\x80\x94");
    CHECK(b.run("return kasaneState.S.current") == 2);
    CHECK(b.wait_for("return document.getElementById('caption').textContent.includes('L_003.fits')"));
    b.press("d");
    CHECK(b.run("return document.getElementById('kept').textContent") == "12 of 14 kept");
    b.press(kEnter, kControl);
    REQUIRE(b.wait_for("return document.getElementById('accept').disabled"));
    CHECK_THAT(read_file(s.project() / "verdicts.toml"), Catch::Contains("night-1/lights/L_003.fits"));
    b.press("a");
    CHECK(b.run("return document.getElementById('kept').textContent") == "13 of 14 kept");
    b.press("d"); // as it is saved: nothing to accept
    CHECK(b.run("return document.getElementById('accept').disabled") == true);
    b.press("z", kControl);
    REQUIRE(b.wait_for("return document.getElementById('kept').textContent === '13 of 14 kept'"));
    CHECK_FALSE(fs::exists(s.project() / "verdicts.toml"));

    // Another light is to give the grid: nothing is written before it is accepted.
    b.press(b.run("return document.getElementById('caption').textContent.includes('gives the grid')") == true
                ? "\xEE\x80\x94"
                : "g");
    if (b.run("return document.getElementById('accept').disabled") == true) b.press("g");
    CHECK(
        b.run("return document.getElementById('caption').textContent").get<std::string>().find("will give the grid") !=
        std::string::npos);
    CHECK_FALSE(fs::exists(s.project() / "kasane.toml"));
    b.press(kEnter, kControl);
    REQUIRE(b.wait_for("return document.getElementById('accept').disabled"));
    CHECK_THAT(read_recipe(s.project()).registration.reference, Catch::StartsWith("night-1/lights/L_0"));
    b.press("z", kControl);
    REQUIRE(b.wait_for("return kasaneState.data().undo === 0"));
    CHECK_FALSE(fs::exists(s.project() / "kasane.toml"));

    // Something is drawn, registered or not.
    const char* kLit = "const c = document.getElementById('picture'), d = c.getContext('2d').getImageData(0, 0, "
                       "c.width, c.height).data;"
                       "let n = 0; for (let i = 0; i < d.length; i += 4) n += d[i] > 20; return n > 5000";
    CHECK(b.wait_for(kLit));
    b.press("r");
    b.press("o");
    CHECK(b.wait_for(kLit));
}

namespace {

void write_integrated(const fs::path& to) {
    write_project(to);
    REQUIRE(shell("{kasane} run -q " + to.string()).status >= 0);
}

} // namespace

TEST_CASE("The page is given what the last master light left out of each light that was used") {
    const Served s(write_integrated);
    auto c = s.client();
    const auto data = nlohmann::json::parse(c.Get(s.base() + "data.json")->body).at("stacks").at(0).at("frames");
    std::size_t judged = 0, marked = 0;
    for (std::size_t k = 0; k < data.size(); ++k) {
        if (data[k].at("judged") != true) continue;
        ++judged;
        const auto cells = nlohmann::json::parse(c.Get(s.base() + "rejected/0/" + std::to_string(k))->body);
        std::size_t squares = 0;
        for (const auto& run : cells.at("runs")) {
            squares += run.at(0).get<std::size_t>();
            marked += run.at(1) != 0 || run.at(2) != 0;
        }
        CHECK(squares == cells.at("columns").get<std::size_t>() * cells.at("rows").get<std::size_t>());
    }
    CHECK(judged >= 12); // those that were used
    CHECK(judged < data.size());
    CHECK(marked > 0);
    CHECK(c.Get(s.base() + "rejected/0/99")->status == 404);
}

TEST_CASE("In the browser: what was left out of a light lies over its picture, and goes away again") {
    const Served s(write_integrated);
    CHECK(shell(fmt::format("{{kasane}} review {} -q --html {}", s.project().string(),
                            (s.folder / "review.html").string()))
              .status == 0);
    const std::string drawn = "const c = document.getElementById('picture'), d = c.getContext('2d').getImageData(0, 0, "
                              "c.width, c.height).data; let n = 0; for (let i = 0; i < d.length; i += 4) n += d[i] > "
                              "d[i + 2] + 30; return n > 20";
    auto c = s.client();
    std::size_t most = 0, which = 0; // the light of which most was left out
    for (std::size_t k = 0; k < 14; ++k) {
        const auto cells = nlohmann::json::parse(c.Get(s.base() + "rejected/0/" + std::to_string(k))->body);
        if (cells.is_null()) continue;
        std::size_t n = 0;
        for (const auto& run : cells.at("runs"))
            if (run.at(2) != 0) n += run.at(0).get<std::size_t>();
        if (n > most) most = n, which = k;
    }
    REQUIRE(most > 0);
    for (const std::string& address : {s.server->address(), "file://" + (s.folder / "review.html").string()}) {
        Browser b;
        b.open(address);
        REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));
        b.run(fmt::format("kasaneState.go({}); return 0", which));
        b.press("x");
        CHECK(b.wait_for(drawn));
        b.press("x");
        CHECK(b.wait_for("return !(() => { " + drawn + " })()"));
    }
}

TEST_CASE("In the browser: a star that is clicked shows its profile, and lights are compared at pixel scale") {
    const Served s;
    auto c = s.client();
    CHECK(c.Get(s.base() + "star/0/99?x=1&y=1&r=9")->status == 404);
    CHECK(c.Get(s.base() + "star/0/0?x=-5&y=zz")->status == 404);
    const auto stars = nlohmann::json::parse(c.Get(s.base() + "stars/0/0")->body);
    REQUIRE(stars.size() > 10);
    const double x = stars[0][0], y = stars[0][1];
    const auto star =
        nlohmann::json::parse(c.Get(fmt::format("{}star/0/0?x={:.0f}&y={:.0f}&r=6", s.base(), x, y))->body);
    CHECK(star.at("x").get<double>() == Approx(x).margin(0.1));
    CHECK(star.at("fit").at("major").get<double>() == Approx(stars[0][2].get<double>()).epsilon(0.2));
    CHECK(star.at("profile").at(1).get<double>() > 5 * star.at("profile").at(10).get<double>());

    Browser b;
    b.open(s.server->address());
    REQUIRE(
        b.wait_for("return window.kasaneState && kasaneState.S.verdicts.length === 14 && kasaneState.pictures.view"));
    const auto click = [&](double at_x, double at_y) {
        b.run(fmt::format(
            "const c = document.getElementById('picture'), r = c.getBoundingClientRect(), v = "
            "kasaneState.pictures.view; for (const name of ['pointerdown', 'pointerup']) c.dispatchEvent(new "
            "PointerEvent(name, {{clientX: r.left + r.width / 2 + ({} - v.x) * v.zoom, clientY: r.top + r.height / 2 + "
            "({} - v.y) * v.zoom, pointerId: 1, isPrimary: true}}))",
            at_x, at_y));
    };
    b.run("kasaneState.go(0)");
    click(x, y);
    REQUIRE(b.wait_for("return document.getElementById('startext').textContent.includes('FWHM')"));
    CHECK(b.run("return document.getElementById('star').hidden") == false);
    CHECK(b.run("return document.getElementById('cost').hidden") == true);
    // Best and worst: at one to one, the middle first, then the corners.
    b.press("c");
    CHECK(b.run("return kasaneState.pictures.view.zoom") == 1);
    const auto middle = b.run("return kasaneState.pictures.view.x");
    b.press("v");
    CHECK(b.run("return kasaneState.pictures.view.x") < middle);
    CHECK(b.run("return kasaneState.pictures.view.zoom") == 1);
    b.press("c");
    CHECK(b.run("return kasaneState.S.comparing") == false);
}

TEST_CASE("The page as one file works without a server") {
    const TemporaryFolder folder;
    write_project(folder / "p");
    CHECK(shell(fmt::format("{{kasane}} review {} -q --html {}", (folder / "p").string(),
                            (folder / "review.html").string()))
              .status == 0);
    const std::string page = read_file(folder / "review.html");
    CHECK_THAT(page, !Catch::Contains("<script src=") && !Catch::Contains("<link rel=\"stylesheet\""));
    Browser b;
    b.open("file://" + (folder / "review.html").string());
    REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));
    CHECK(b.run("return window.broken === undefined") == true);
    CHECK_THAT(page, Catch::Contains("default-src 'none'") && !Catch::Contains("'unsafe-"));
    CHECK(b.run(kSlipsIn) == false);
    b.press("d");
    b.press(kEnter, kControl);
    REQUIRE(b.wait_for("return document.getElementById('export').open"));
    CHECK_THAT(b.run("return document.querySelector('#export textarea').value").get<std::string>(),
               Catch::Contains("[[verdict]]") && Catch::Contains("verdict = \"drop\""));
}

TEST_CASE("Three thousand exposures stay fluid") {
    const Served s;
    Browser b;
    b.open(s.server->address());
    REQUIRE(b.wait_for("return document.getElementById('kept') !== null"));
    // The same exposures again and again, with other values.
    b.run(
        "const D = kasaneState.data(), st = D.stacks[0], one = st.frames; st.frames = [];"
        "for (let i = 0; i < 3000; ++i) { const f = JSON.parse(JSON.stringify(one[i % one.length])); f.time += 200 * i;"
        "f.v = f.v.map(v => v === null ? v : v * (1 + 0.1 * Math.sin(i * 1.7))); st.frames.push(f); } "
        "kasaneState.judge();");
    std::vector<double> times;
    for (int k = 0; k < 9; ++k) {
        b.run(fmt::format("kasaneState.S.limits[7].conditions[0].number = {}; kasaneState.judge();", 1 + 0.05 * k));
        times.push_back(b.run("return window.kasaneRedraw").get<double>());
    }
    std::sort(times.begin(), times.end());
    CHECK(b.run("return kasaneState.S.verdicts.length") == 3000);
    std::cout << fmt::format("redraw after a limit moved, 3000 exposures: {:.0f} ms (median)\n", times[4]);
}

TEST_CASE("Bodies in pieces are limited too, and numbers that are no index decide nothing") {
    const Served s;
    auto c = s.client();
    std::size_t sent = 0;
    const auto pieces = [&](std::size_t, httplib::DataSink& sink) {
        const std::string piece(1 << 20, ' ');
        sent += piece.size();
        if (sent > (200u << 20)) sink.done();
        return sink.write(piece.data(), piece.size());
    };
    const auto r = c.Post(s.base() + "accept", httplib::Headers{}, pieces, "application/json");
    CHECK(sent < (60u << 20)); // the rest was not taken
    CHECK((!r || r->status == 413));
    const auto before = digests(s.project());
    for (const char* index :
         {"\"stack\": 1e30, \"frame\": 0", "\"stack\": 0, \"frame\": 1.5", "\"stack\": -1, \"frame\": 0",
          "\"stack\": \"0\", \"frame\": 0", "\"stack\": 0, \"frame\": 99999"}) {
        INFO(index);
        auto again = s.client();
        const auto answer =
            again.Post(s.base() + "accept",
                       fmt::format("{{\"decisions\": [{{{}, \"verdict\": \"drop\"}}], \"limits\": null}}", index),
                       "application/json");
        REQUIRE(answer);
        CHECK(answer->status == 400);
    }
    CHECK(digests(s.project()) == before);
}

TEST_CASE("Connections that say nothing keep nobody waiting") {
    const Served s;
    std::vector<int> silent;
    for (int i = 0; i < 200; ++i) {
        const int fd = ::socket(AF_INET, SOCK_STREAM, 0);
        sockaddr_in to{};
        to.sin_family = AF_INET;
        to.sin_port = htons(static_cast<std::uint16_t>(s.port()));
        to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        if (::connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to) == 0) (void)!::write(fd, "GET /", 5);
        silent.push_back(fd);
    }
    const auto begin = std::chrono::steady_clock::now();
    auto c = s.client();
    CHECK(c.Get(s.base())->status == 200);
    CHECK(std::chrono::steady_clock::now() - begin < std::chrono::seconds(3)); // they are given five
    for (const int fd : silent)
        ::close(fd);
}
