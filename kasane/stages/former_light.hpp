// The master light that is about to be replaced, kept as a picture: what did the new lights or settings bring? Part of
// stage 6.
#pragma once

#include <kasane/integration/stack.hpp>
#include <kasane/stages/session.hpp>

#include <string>

namespace kasane {

/// Before the new one, described by `report` and known by `key`, is written: a picture of the one that lies in its
/// place, if it is as it was written and lies on the same grid. Its sky is as bright as the new one's, and an ADU above
/// it too. Told again of a run that was broken off after it. Throws OutputError.
FormerReport keep_former(const Session& session, const StackReport& report, const std::string& key,
                         const MasterLight& master, const Canvas& canvas);

} // namespace kasane
