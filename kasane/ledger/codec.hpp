// Plain bytes of numbers and texts, in order. The ledger never leaves its machine's kind: bytes that do not fit are
// derived again. Not for others than ledger/ and stages/.
#pragma once

#include <kasane/base/error.hpp>

#include <cstdint>
#include <cstring>
#include <optional>
#include <string>
#include <type_traits>

namespace kasane {

class Writer {
public:
    template <class T>
    Writer& put(const T& v) {
        static_assert(std::is_trivially_copyable_v<T>);
        bytes.append(reinterpret_cast<const char*>(&v), sizeof v);
        return *this;
    }
    Writer& put(const std::string& text) {
        put(static_cast<std::uint32_t>(text.size()));
        bytes += text;
        return *this;
    }
    Writer& put(const std::optional<double>& v) {
        put(static_cast<std::uint8_t>(v.has_value()));
        return v ? put(*v) : *this;
    }
    std::string bytes;
};

/// Throws DataError where the bytes end too soon.
class Reader {
public:
    explicit Reader(const std::string& bytes) : bytes_(bytes) {}
    template <class T>
    void get(T& v) {
        static_assert(std::is_trivially_copyable_v<T>);
        need(sizeof v);
        std::memcpy(&v, bytes_.data() + at_, sizeof v);
        at_ += sizeof v;
    }
    void get(std::string& text) {
        std::uint32_t size = 0;
        get(size);
        need(size);
        text.assign(bytes_, at_, size);
        at_ += size;
    }
    void get(std::optional<double>& v) {
        std::uint8_t there = 0;
        get(there);
        v.reset();
        if (!there) return;
        double d = 0;
        get(d);
        v = d;
    }
    void get(bool& v) { // a byte that is neither would be no value at all
        std::uint8_t byte = 0;
        get(byte);
        v = byte != 0;
    }
    template <class T>
    T take() {
        T v{};
        get(v);
        return v;
    }
    bool at_end() const { return at_ == bytes_.size(); }
    std::size_t left() const { return bytes_.size() - at_; }

private:
    void need(std::size_t n) const {
        if (n > bytes_.size() - at_) throw DataError("the record is too short", {}, {});
    }
    const std::string& bytes_;
    std::size_t at_ = 0;
};

} // namespace kasane
