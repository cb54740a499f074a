#include "timeline/typed_time.h"

#include <algorithm>
#include <cmath>

#include "model/quantity.h"

namespace hedgerow::app {

std::string typedTime(double seconds, double pixel) {
    const double digit = std::pow(10.0, std::floor(std::log10(std::max(pixel, 1e-15))));
    std::string text = formatQuantity(std::max(0.0, std::round(seconds / digit) * digit), "s", 9);
    std::erase(text, ' ');
    if (text.ends_with('s')) text.pop_back();
    if (const auto micro = text.find("µ"); micro != std::string::npos) text.replace(micro, 2, "u");
    if (const std::size_t space = text.find("\u00a0"); space != std::string::npos) text.erase(space, 2);
    return text;
}

}  // namespace hedgerow::app
