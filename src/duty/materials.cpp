#include "duty/materials.hpp"

namespace escultura::duty {

const std::vector<LibraryMaterial>& materialLibrary() {
    using elastic::FailureRule;
    // name, E MPa, nu, density kg/mm3, yield MPa, source, ultimate MPa, rule
    static const std::vector<LibraryMaterial> all = {
        {{"EN AW-6082-T6", 70000, 0.33, 2.70e-6, 260, "minimum, EN 755-2, extruded, 5 to 25 mm", 310},
         true,
         "aluminium"},
        {{"EN AW-7075-T6", 71700, 0.33, 2.81e-6, 503, "typical, plate and bar", 572}, false, "aluminium"},
        {{"EN AW-5083-H116", 71000, 0.33, 2.66e-6, 215, "minimum, EN 485-2, plate", 305}, true, "aluminium"},
        {{"EN AC-42100-T6 (AlSi7Mg0.3)", 72000, 0.33, 2.68e-6, 210,
          "minimum, EN 1706, permanent mould, separately cast bar", 290},
         true,
         "aluminium"},
        {{"AlSi10Mg, laser powder bed, stress relieved", 70000, 0.33, 2.67e-6, 200, "typical, machined test bars", 330},
         false,
         "aluminium"},
        {{"S355J2", 210000, 0.30, 7.85e-6, 355, "minimum, EN 10025-2, up to 16 mm", 470}, true, "steel"},
        {{"42CrMo4+QT", 210000, 0.30, 7.85e-6, 650, "minimum, EN ISO 683-2, 40 to 100 mm", 900}, true, "steel"},
        {{"G20Mn5+QT", 210000, 0.30, 7.85e-6, 300, "minimum, EN 10293, castings up to 100 mm", 500}, true, "steel"},
        {{"X2CrNiMo17-12-2 (1.4404)", 200000, 0.30, 8.0e-6, 200, "minimum, EN 10088-3, solution annealed bar", 500},
         true,
         "steel"},
        {{"X5CrNiCuNb16-4 (1.4542) P930", 200000, 0.30, 7.8e-6, 720, "minimum, EN 10088-3, aged bar", 930},
         true,
         "steel"},
        {{"EN-GJS-400-15", 169000, 0.275, 7.1e-6, 250, "minimum, EN 1563, wall up to 30 mm", 400}, true, "cast iron"},
        {{"EN-GJL-250", 110000, 0.26, 7.2e-6, 0,
          "minimum ultimate strength, EN 1561, separately cast bar; compared with the maximum principal stress", 250,
          FailureRule::brittle},
         true,
         "cast iron"},
        {{"Ti-6Al-4V, annealed", 114000, 0.34, 4.43e-6, 828, "minimum, ASTM B348 grade 5, bar", 895}, true, "titanium"},
        {{"NiCr19Fe19Nb5Mo3 (2.4668), aged", 200000, 0.29, 8.19e-6, 1034, "minimum, AMS 5662, bar", 1276},
         true,
         "nickel"},
        {{"PA 12, laser sintered", 1650, 0.40, 0.93e-6, 45, "typical, ISO 527, along the layers", 48},
         false,
         "polymer"},
        {{"POM-C", 2700, 0.35, 1.41e-6, 63, "typical, ISO 527", 63}, false, "polymer"},
        {{"PEEK, unfilled", 3700, 0.38, 1.30e-6, 95, "typical, ISO 527", 98}, false, "polymer"},
    };
    return all;
}

}  // namespace escultura::duty
