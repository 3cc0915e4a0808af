/* What a loader of which only the name is known would do with a menu or a script: places in RAM
 * that are far enough from each other, and the command for that file. */
#include "loaders/u-boot/u-boot.h"

#include <string.h>

void ub_starts_file(struct mos_arena *arena, const char *medium, unsigned partition,
                    const char *path, struct mos_map *out) {
    size_t type = strcspn(medium, " "), length = strlen(path);
    const char *number = medium[type] ? medium + type + 1 : "0";
    bool menu = length > 5 && strcmp(path + length - 5, ".conf") == 0;
    const char *where = mos_printf(arena, "%.*s %s:%u", (int)type, medium, number, partition);
    const struct {
        const char *name, *value;
    } all[] = {
        {"kernel_addr_r", "50000000"},
        {"fdt_addr_r", "48000000"},
        {"fdtoverlay_addr_r", "49000000"},
        {"ramdisk_addr_r", "60000000"},
        {"kernel_comp_addr_r", "70000000"},
        {"kernel_comp_size", "4000000"},
        {"scriptaddr", "47000000"},
        {"pxefile_addr_r", "46000000"},
        {"loadaddr", "50000000"},
        {"devtype", mos_strndup(arena, medium, type)},
        {"devnum", number},
        {"distro_bootpart", mos_printf(arena, "%u", partition)},
        {"prefix", "/"},
        {"bootcmd",
         menu ? mos_printf(arena, "sysboot %s any ${scriptaddr} /%s", where, path)
              : mos_printf(arena, "load %s ${scriptaddr} /%s; source ${scriptaddr}", where, path)}};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        mos_variables_set(arena, out, all[i].name, all[i].value, (struct mos_place){0});
}
