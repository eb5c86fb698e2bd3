// Any text as the value of any keyword, and as a path: "KEY=value" lines, the first line is the path.
#include <kasane/frames/nights.hpp>
#include <kasane/frames/rules.hpp>
#include <kasane/frames/words.hpp>

#include <cstdint>
#include <sstream>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    using namespace kasane;
    std::istringstream text(std::string(reinterpret_cast<const char*>(data), size));
    std::string path, line;
    std::getline(text, path);
    FrameSummary summary{Format::fits, {}, 100, 80, 1, 16, true};
    FrameRules rules;
    while (std::getline(text, line)) {
        const auto mark = line.find('=');
        if (mark == std::string::npos) {
            if (layout_problem(line).empty()) rules.layouts.push_back(line);
            continue;
        }
        summary.header.add({line.substr(0, mark), line.substr(mark + 1), {}, true});
    }
    std::vector<Exposure> one = {describe_exposure(path, summary)};
    apply_rules(one[0], rules);
    assign_nights(one);
    glob_matches(path, one[0].filter);
    if (file_safe(one[0].target).find('/') != std::string::npos) __builtin_trap();
    for (int i = 0; i < kFields; ++i) { // what is written can be read again
        const auto field = static_cast<Field>(i);
        const std::string value = value_text(one[0], field);
        if (value.empty() || field == Field::master) continue;
        Exposure again = one[0];
        if (!set_value(again, field, value, {Origin::recipe, {}}).empty()) __builtin_trap();
    }
    return 0;
}
