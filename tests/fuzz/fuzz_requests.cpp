// What is sent to the review page's server, from any text.
#include <kasane/base/error.hpp>
#include <kasane/report/review_request.hpp>

#include <cstdint>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    try {
        kasane::parse_review_request(std::string(reinterpret_cast<const char*>(data), size));
    } catch (const kasane::UsageError&) {
    }
    return 0;
}
