// SPDX-License-Identifier: MIT
// Keys of the demo's own, and what Secure Boot makes of them.
#pragma once

#include <memory>

#include "uefi.hpp"

namespace forge {

/// An RSA key with a certificate that it signed itself; made anew each time, and kept nowhere.
class SigningKey {
public:
    explicit SigningKey(const std::string& name);
    [[nodiscard]] Bytes certificate() const;
    /// An image with an Authenticode signature (SHA-256) behind it.
    [[nodiscard]] Bytes sign(Bytes image) const;

private:
    struct Parts;
    std::shared_ptr<Parts> parts_;
};

/// A signature database of certificates.
Bytes make_certificate_list(const std::vector<Bytes>& certificates);

}  // namespace forge
