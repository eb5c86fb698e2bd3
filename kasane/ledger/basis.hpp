// What a result was made from, so that a change can be told and explained.
#pragma once

#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// What a result was made from, so that a change can be told and explained: settings by name, inputs by identity.
class Basis {
public:
    explicit Basis(const std::string& kind);
    Basis& set(const std::string& name, const std::string& value);
    Basis& input(const std::string& identity, const std::string& path);
    std::string key() const;
    std::string text() const; ///< for the ledger
    /// What has changed since `former` (text of an earlier basis): "2 new: ...", "setting ... was ...". Empty: nothing.
    std::vector<std::string> changes_since(const std::string& former) const;

private:
    std::vector<std::pair<std::string, std::string>> settings_, inputs_;
};

} // namespace kasane
