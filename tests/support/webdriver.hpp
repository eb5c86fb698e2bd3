// A real browser, driven through the W3C WebDriver protocol.
#pragma once

#include <memory>
#include <nlohmann/json.hpp>
#include <string>

namespace kasane::test {

/// Headless Chromium behind its driver, gone with the object. Throws std::runtime_error with what the driver said.
class Browser {
public:
    Browser(int width = 1280, int height = 800);
    ~Browser();
    Browser(const Browser&) = delete;
    Browser& operator=(const Browser&) = delete;

    void open(const std::string& address);
    /// Runs a function body in the page and returns what it returns.
    nlohmann::json run(const std::string& script);
    /// Runs a function body until it returns something that is true; false after ten seconds.
    bool wait_for(const std::string& script);
    /// Keys pressed one after another; \uE000 and up as WebDriver numbers them.
    void press(const std::string& key, const std::string& held = "");

private:
    struct Driver;
    std::unique_ptr<Driver> driver_;
    void start(int width, int height);
};

} // namespace kasane::test
