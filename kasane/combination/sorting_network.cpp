#include <kasane/combination/sorting_network.hpp>

#include <algorithm>

namespace kasane {

std::vector<Comparator> sorting_network(int n) {
    std::vector<Comparator> network;
    for (int p = 1; p < n; p *= 2)
        for (int k = p; k >= 1; k /= 2)
            for (int j = k % p; j + k < n; j += 2 * k)
                for (int i = 0; i < std::min(k, n - j - k); ++i)
                    if ((i + j) / (2 * p) == (i + j + k) / (2 * p))
                        network.push_back({static_cast<std::uint16_t>(i + j), static_cast<std::uint16_t>(i + j + k)});
    return network;
}

} // namespace kasane
