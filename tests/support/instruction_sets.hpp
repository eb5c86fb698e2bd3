// Kernels are compiled for several instruction sets and chosen at run time: tests go through all that this machine has.
#pragma once

#include <catch2/catch.hpp>
#include <cstdint>
#include <hwy/targets.h>

namespace kasane::test {

/// Calls `f` with each instruction set chosen in turn, then leaves the choice to the machine again. Returns how many
/// there were.
template <class F>
int on_every_instruction_set(F f) {
    struct Restored {
        ~Restored() {
            hwy::SetSupportedTargetsForTest(0);
            hwy::GetChosenTarget().DeInit();
        }
    } restored;
    int targets = 0;
    for (const std::int64_t target : hwy::SupportedAndGeneratedTargets()) {
        hwy::SetSupportedTargetsForTest(target);
        hwy::GetChosenTarget().DeInit();
        INFO(hwy::TargetName(target));
        f();
        ++targets;
    }
    return targets;
}

} // namespace kasane::test
