// SPDX-License-Identifier: MIT
// One description of a structure serves reading, annotation and output.
#pragma once

#include <fmt/format.h>
#include <array>
#include <boost/describe.hpp>
#include <boost/endian/arithmetic.hpp>
#include <boost/mp11.hpp>
#include <cstring>
#include <span>

#include <herberge/bytes.hpp>
#include <herberge/fields.hpp>

namespace herberge::ondisk {

using boost::endian::big_uint16_t;
using boost::endian::big_uint32_t;
using boost::endian::big_uint64_t;
using boost::endian::little_int32_t;
using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

template <std::size_t Count>
using Bytes = std::array<std::uint8_t, Count>;

/// A structure at the start of `bytes`, which must hold it whole.
template <class T>
T from_bytes(std::span<const std::uint8_t> bytes, std::size_t offset = 0) {
    T value{};
    if (offset + sizeof(T) <= bytes.size()) std::memcpy(static_cast<void*>(&value), bytes.data() + offset, sizeof(T));
    return value;
}

/// The bytes of a structure; they live as long as it does.
template <class T>
std::span<const std::uint8_t> stored_bytes(const T& value) {
    return {reinterpret_cast<const std::uint8_t*>(&value), sizeof(value)};
}

/// A GUID as it is stored; empty when it does not fit.
inline std::string guid_at(std::span<const std::uint8_t> bytes, std::size_t at) {
    if (bytes.size() < 16 || at > bytes.size() - 16) return {};
    return guid_text(bytes.subspan(at).first<16>());
}

namespace detail {

std::string describe_bytes(std::span<const std::uint8_t> bytes);

template <class T>
void annotate_value(std::vector<Field>& out, const std::string& name, const T& value, std::uint64_t offset);

template <class T>
void annotate_members(std::vector<Field>& out, const std::string& prefix, const T& value, std::uint64_t offset) {
    using Members = boost::describe::describe_members<T, boost::describe::mod_public>;
    boost::mp11::mp_for_each<Members>([&](auto member) {
        const auto& part = value.*member.pointer;
        const auto at =
            static_cast<std::uint64_t>(reinterpret_cast<const char*>(&part) - reinterpret_cast<const char*>(&value));
        annotate_value(out, prefix + member.name, part, offset + at);
    });
}

template <class T>
struct IsArray : std::false_type {};
template <class E, std::size_t N>
struct IsArray<std::array<E, N>> : std::true_type {
    using Element = E;
};

template <class T>
void annotate_value(std::vector<Field>& out, const std::string& name, const T& value, std::uint64_t offset) {
    if constexpr (boost::describe::has_describe_members<T>::value) {
        annotate_members(out, name + ".", value, offset);
    } else {
        if constexpr (IsArray<T>::value) {
            if constexpr (sizeof(typename IsArray<T>::Element) != 1) {
                for (std::size_t i = 0; i < value.size(); ++i)
                    annotate_value(out, fmt::format("{}[{}]", name, i), value[i], offset + i * sizeof(value[i]));
                return;
            }
        }
        Field field;
        field.name = name;
        field.offset = offset;
        field.size = sizeof(T);
        const auto* raw = reinterpret_cast<const std::uint8_t*>(&value);
        field.raw.assign(raw, raw + sizeof(T));
        if constexpr (IsArray<T>::value) {
            field.value = describe_bytes(field.raw);
        } else if constexpr (std::is_same_v<T, std::uint8_t>) {
            field.value = fmt::format("{} (0x{:02x})", value, value);
        } else {
            const auto number = static_cast<typename T::value_type>(value);
            field.value =
                fmt::format("{} (0x{:x})", number, static_cast<std::make_unsigned_t<decltype(number)>>(number));
        }
        out.push_back(std::move(field));
    }
}

}  // namespace detail

/// Every field of a described structure that lies at `offset` of the piece being annotated.
template <class T>
std::vector<Field> annotate(const T& value, std::uint64_t offset = 0, const std::string& prefix = {}) {
    std::vector<Field> out;
    detail::annotate_members(out, prefix, value, offset);
    return out;
}

}  // namespace herberge::ondisk
