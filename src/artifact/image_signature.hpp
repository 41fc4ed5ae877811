// SPDX-License-Identifier: MIT
// Signatures of image trees, by the keys that U-Boot's own device tree demands (doc/usage/fit/signature.rst).
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "artifact/boot_image.hpp"

namespace herberge {

/// A public key as U-Boot's tree holds it.
struct ImageKey {
    std::string name;       ///< of its node: "key-dev"
    std::string algorithm;  ///< "sha256,rsa2048"
    std::string demanded;   ///< "conf", "image"; empty: it is there, and nothing must be signed by it
    std::vector<std::uint8_t> modulus;
    std::uint64_t exponent = 65537;
};

struct ImageKeys {
    std::vector<ImageKey> keys;
    bool any = false;  ///< one of the demanded keys is enough
    [[nodiscard]] bool demands(std::string_view what) const;
};

/// The keys below /signature; none: it has no such node.
[[nodiscard]] ImageKeys image_keys(const DeviceTree& control);
/// The device tree with keys that a program carries in itself or behind itself, at multiples of 4 bytes of its first 16
/// MiB; none: there is none.
[[nodiscard]] ImageKeys find_image_keys(const ByteSource& program);

/// What came of a check of signatures.
struct SignatureCheck {
    enum class Outcome : std::uint8_t { Holds, Fails, Unknown };
    Outcome outcome = Outcome::Holds;
    std::string text;  ///< what is wrong, or why it is not known
    std::string key;   ///< of which key
    std::string node;  ///< of which node of the tree
};
/// Whether a configuration is signed as the keys demand (boot/image-fit-sig.c, fit_config_verify).
[[nodiscard]] SignatureCheck check_configuration(const Fit& fit, const std::string& name, const ImageKeys& keys);
/// The same of one image (fit_image_verify_required_sigs).
[[nodiscard]] SignatureCheck check_image(const Fit& fit, const FitImage& image, const ImageKeys& keys);

}  // namespace herberge
