#include <kasane/base/progress.hpp>

#include <kasane/base/error.hpp>

namespace kasane {

void Progress::expect(const std::vector<StageCost>&) {}
void Progress::begin(const std::string&, std::int64_t) {}
void Progress::advance(std::int64_t) {}
void Progress::end() {}

void CancelToken::check() const {
    if (requested()) throw Cancelled();
}

} // namespace kasane
