#include <kasane/combination/account.hpp>

namespace kasane {

Provenance::Step combine_step(const CombinationChoice& choice) {
    Provenance::Step step{"combine", choice.reason, {}, {}};
    step.set("combination", std::string(combination_name(choice.options.combination)))
        .set("rejection", std::string(rejection_name(choice.options.rejection)));
    for (const auto& [name, value] : rejection_settings(choice.options.rejection))
        step.set(name, value);
    return step;
}

} // namespace kasane
