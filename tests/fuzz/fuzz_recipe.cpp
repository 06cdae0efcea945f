#include "base/error.h"
#include "recipe/recipe.h"

#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    try {
        const auto recipe = oxgoad::parseRecipe({reinterpret_cast<const char*>(data), size}, "f");
        if (!(oxgoad::parseRecipe(oxgoad::recipeText(recipe), "again") == recipe)) std::abort();
    } catch (const oxgoad::Error&) {
    }
    return 0;
}
