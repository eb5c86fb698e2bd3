// What a result was made from, so that a change can be told and explained.
#pragma once

#include <kasane/base/provenance.hpp>

#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// What a result was made from, so that a change can be told and explained: settings by name, inputs by identity.
/// An exposure counts by its content, wherever it lies; a master as the setting "master NAME".
class Basis {
public:
    /// Of what is settled before a result is made: the steps' settings and inputs.
    Basis(const std::string& kind, Provenance planned);
    const Provenance& planned() const { return planned_; }
    std::string key() const;
    std::string text() const; ///< for the ledger
    /// What has changed since `former` (text of an earlier basis): "2 new: ...", "setting ... was ...". Empty: nothing.
    std::vector<std::string> changes_since(const std::string& former) const;

private:
    void set(const std::string& name, const std::string& value);
    Provenance planned_;
    std::vector<std::pair<std::string, std::string>> settings_, inputs_;
};

} // namespace kasane
