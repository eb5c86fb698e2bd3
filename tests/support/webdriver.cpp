#include "webdriver.hpp"

#include <chrono>
#include <httplib.h>
#include <signal.h>
#include <spawn.h>
#include <stdexcept>
#include <sys/wait.h>
#include <thread>
#include <unistd.h>

extern char** environ;

namespace kasane::test {

using nlohmann::json;

struct Browser::Driver {
    pid_t process = 0;
    std::unique_ptr<httplib::Client> client;
    std::string session;

    json call(const char* method, const std::string& path, const json& body = json::object()) {
        const auto result = std::string(method) == "POST"  ? client->Post(path, body.dump(), "application/json")
                            : std::string(method) == "GET" ? client->Get(path)
                                                           : client->Delete(path);
        if (!result) throw std::runtime_error("the browser's driver does not answer");
        const json answer = json::parse(result->body).at("value");
        if (result->status != 200) throw std::runtime_error(answer.dump());
        return answer;
    }
    void launch(int port) {
        std::string program = "chromedriver", argument = "--port=" + std::to_string(port), silent = "--silent";
        char* const arguments[] = {program.data(), argument.data(), silent.data(), nullptr};
        if (posix_spawnp(&process, program.c_str(), nullptr, nullptr, arguments, environ) != 0)
            throw std::runtime_error("chromedriver is not there");
        client = std::make_unique<httplib::Client>("127.0.0.1", port);
        client->set_read_timeout(60, 0);
    }
    /// Whether it answers. If not, it has ended: another has its port, say.
    bool answers() {
        for (int tries = 0; tries < 100; ++tries) {
            if (waitpid(process, nullptr, WNOHANG) == process) {
                process = 0;
                return false;
            }
            if (const auto r = client->Get("/status"); r && r->status == 200) return true;
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
        }
        stop();
        return false;
    }
    void stop() {
        if (process <= 0) return;
        kill(process, SIGTERM);
        waitpid(process, nullptr, 0);
        process = 0;
    }
};

Browser::Browser(int width, int height) : driver_(std::make_unique<Driver>()) {
    constexpr int kFirst = 20000, kPorts = 12000, kApart = 977, kTries = 5; // below those that systems hand out
    int tries = 0;
    do {
        if (tries == kTries) throw std::runtime_error("chromedriver did not start");
        driver_->launch(kFirst + (static_cast<int>(getpid()) + kApart * tries++) % kPorts);
    } while (!driver_->answers());
    try {
        start(width, height);
    } catch (...) { // it would outlive the test, and whoever reads its output would wait for it
        driver_->stop();
        throw;
    }
}

void Browser::start(int width, int height) {
    const json options = {{"args",
                           {"--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
                            "--window-size=" + std::to_string(width) + "," + std::to_string(height)}}};
    const json wanted = {
        {"capabilities", {{"alwaysMatch", {{"browserName", "chrome"}, {"goog:chromeOptions", options}}}}}};
    driver_->session = "/session/" + driver_->call("POST", "/session", wanted).at("sessionId").get<std::string>();
}

Browser::~Browser() {
    try {
        driver_->call("DELETE", driver_->session);
    } catch (const std::exception&) { // it goes all the same
    }
    driver_->stop();
}

void Browser::open(const std::string& address) {
    driver_->call("POST", driver_->session + "/url", {{"url", address}});
}

json Browser::run(const std::string& script) {
    return driver_->call("POST", driver_->session + "/execute/sync", {{"script", script}, {"args", json::array()}});
}

bool Browser::wait_for(const std::string& script) {
    for (int tries = 0; tries < 200; ++tries) {
        const json v = run(script);
        if (!v.is_null() && v != false && v != 0) return true;
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    return false;
}

void Browser::press(const std::string& key, const std::string& held) {
    json steps = json::array();
    if (!held.empty()) steps.push_back({{"type", "keyDown"}, {"value", held}});
    steps.push_back({{"type", "keyDown"}, {"value", key}});
    steps.push_back({{"type", "keyUp"}, {"value", key}});
    if (!held.empty()) steps.push_back({{"type", "keyUp"}, {"value", held}});
    driver_->call("POST", driver_->session + "/actions",
                  {{"actions", {{{"type", "key"}, {"id", "keys"}, {"actions", steps}}}}});
}

} // namespace kasane::test
