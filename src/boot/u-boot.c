/* The shell language of U-Boot: its own documentation, doc/usage/cmdline and doc/develop/distro. */
#include "boot/dialect.h"

#include "boot/legacy.h"

#include <string.h>

/* Text inside double quotes. */
static void quoted(struct mos_buf *out, const char *text) {
    mos_buf_char(out, '"');
    for (; *text; text++) {
        if (strchr("\"\\$", *text))
            mos_buf_char(out, '\\');
        mos_buf_char(out, *text);
    }
    mos_buf_char(out, '"');
}

/* The variables of the loader's own search for bootable volumes tell where we were started from;
 * typed in by hand they are not set. */
static void write_device(const struct mos_boot_script *s, struct mos_buf *out) {
    size_t type = strcspn(s->device, " ");
    const char *number = s->device + type;
    number += strspn(number, " ");
    mos_buf_text(out,
                 "# The device this script was loaded from; started by hand, the board's own.\n");
    mos_buf_printf(out, "if test -z \"${devtype}\"; then setenv devtype %.*s; fi\n", (int)type,
                   s->device);
    mos_buf_printf(out, "if test -z \"${devnum}\"; then setenv devnum %s; fi\n",
                   *number ? number : "0");
    mos_buf_printf(out, "if test -z \"${distro_bootpart}\"; then setenv distro_bootpart %u; fi\n",
                   s->partition);
}

static void write_load(struct mos_buf *out, const char *indent, uint64_t address,
                       const char *file) {
    mos_buf_printf(out, "%sif load ${devtype} ${devnum}:${distro_bootpart} 0x%08llx ", indent,
                   (unsigned long long)address);
    mos_buf_printf(out, "%s; then\n", file);
}

static void write_step(const struct mos_boot_step *s, struct mos_buf *out) {
    const struct {
        const char *file;
        const struct mos_placement *placement;
    } loads[] = {
        {s->kernel_file, &s->kernel}, {s->tree_file, &s->tree}, {s->ramdisk_file, &s->ramdisk}};
    static const char blanks[] = "        ";
    size_t depth = 0;
    mos_buf_printf(out, "\n# %s\necho \"Entry %s\"\nsetenv bootargs ", s->name, s->name);
    quoted(out, s->arguments);
    mos_buf_char(out, '\n');
    for (size_t i = 0; i < 3; i++)
        if (loads[i].file) {
            write_load(out, blanks + sizeof blanks - 1 - 2 * depth,
                       loads[i].placement->ranges[MOS_RANGE_LOADED].start, loads[i].file);
            depth++;
        }
    mos_buf_printf(out, "%s%s 0x%08llx ", blanks + sizeof blanks - 1 - 2 * depth, s->command,
                   (unsigned long long)s->kernel.ranges[MOS_RANGE_LOADED].start);
    if (s->ramdisk_file) /* the file loaded last was the ramdisk: its size is still known */
        mos_buf_printf(out, "0x%08llx:${filesize} ",
                       (unsigned long long)s->ramdisk.ranges[MOS_RANGE_LOADED].start);
    else
        mos_buf_text(out, "- ");
    if (s->tree_file)
        mos_buf_printf(out, "0x%08llx\n",
                       (unsigned long long)s->tree.ranges[MOS_RANGE_LOADED].start);
    else
        mos_buf_text(out, "${fdtcontroladdr}\n");
    while (depth--)
        mos_buf_printf(out, "%sfi\n", blanks + sizeof blanks - 1 - 2 * depth);
    mos_buf_printf(out, "echo \"Entry %s did not start.\"\n", s->name);
}

static void write_script(const struct mos_boot_script *script, struct mos_buf *out) {
    mos_buf_printf(out, "# Boots %s.  Made by mosaicum: the next build replaces this file.\n",
                   script->board);
    write_device(script, out);
    for (size_t i = 0; i < script->count; i++)
        write_step(&script->steps[i], out);
}

static void wrap_script(const struct mos_boot_script *script, const char *text, size_t length,
                        struct mos_buf *out) {
    mos_legacy_script(out, mos_printf(out->arena, "boot %s", script->board), (uint32_t)script->date,
                      text, length);
}

static void write_emmc_setup(const struct mos_emmc_setup *s, struct mos_buf *out) {
    const char *number = s->device + strcspn(s->device, " ");
    number += strspn(number, " ");
    number = *number ? number : "0";
    mos_buf_printf(out,
                   "# Sets up the eMMC of %s.  Run once on each new board, by hand.\n"
                   "# These settings stay in the chip; what cannot be taken back is marked.\n"
                   "mmc dev %s || exit 1\n",
                   s->board, number);
    if (s->bus_width) /* width 0, 1, 2 is 1, 4, 8 lines; the bus keeps its width and mode else */
        mos_buf_printf(out, "echo \"data lines while booting: %u\"\nmmc bootbus %s %u 0 0\n",
                       s->bus_width, number,
                       s->bus_width == 8   ? 2
                       : s->bus_width == 4 ? 1
                                           : 0);
    if (s->area)
        mos_buf_printf(out, "echo \"boots from area boot%u\"\nmmc partconf %s %u %u 0\n",
                       s->area - 1, number, s->acknowledge, s->area);
    if (s->reset_pin)
        mos_buf_printf(out,
                       "# This one cannot be taken back.\n"
                       "echo \"reset pin on\"\nmmc rst-function %s 1\n",
                       number);
    mos_buf_printf(out, "mmc partconf %s\necho \"The eMMC is set up.\"\n", number);
}

static bool sets_variable(const char *name) {
    static const char *const names[] = {"arch",
                                        "board",
                                        "board_name",
                                        "boot_net_usb_start",
                                        "bootargs",
                                        "bootdev",
                                        "bootfile",
                                        "bootmeths",
                                        "bootpart",
                                        "bootstd",
                                        "cpu",
                                        "devnum",
                                        "devplist",
                                        "devtype",
                                        "distro_bootpart",
                                        "dnsip",
                                        "ethact",
                                        "ethaddr",
                                        "eth1addr",
                                        "fdtaddr",
                                        "fdtcontroladdr",
                                        "fileaddr",
                                        "filesize",
                                        "gatewayip",
                                        "hostname",
                                        "initrd_end",
                                        "initrd_start",
                                        "ipaddr",
                                        "loadaddr",
                                        "mmc_bootdev",
                                        "netmask",
                                        "prefix",
                                        "rootpath",
                                        "serial#",
                                        "serverip",
                                        "soc",
                                        "stderr",
                                        "stdin",
                                        "stdout",
                                        "vendor",
                                        "ver"};
    enum { COUNT = sizeof names / sizeof *names };
    for (size_t i = 0; i < COUNT; i++)
        if (strcmp(names[i], name) == 0)
            return true;
    return false;
}

static const struct mos_loader_command commands[] = {
    {"booti", "CONFIG_CMD_BOOTI"},     {"bootz", "CONFIG_CMD_BOOTZ"},
    {"bootm", "CONFIG_CMD_BOOTM"},     {"source", "CONFIG_CMD_SOURCE"},
    {"load", "CONFIG_CMD_FS_GENERIC"}, {"fatload", "CONFIG_CMD_FAT"},
    {"ext4load", "CONFIG_CMD_EXT4"},   {"part", "CONFIG_CMD_PART"},
    {"setexpr", "CONFIG_CMD_SETEXPR"}, {"itest", "CONFIG_CMD_ITEST"},
    {"sysboot", "CONFIG_CMD_SYSBOOT"}, {"mmc", "CONFIG_CMD_MMC"},
    {"sf", "CONFIG_CMD_SF"},           {"usb", "CONFIG_CMD_USB"},
    {"nvme", "CONFIG_CMD_NVME"},       {"saveenv", "CONFIG_CMD_SAVEENV"},
    {"fdt", "CONFIG_OF_LIBFDT"},       {"tftpboot", "CONFIG_CMD_TFTPBOOT"},
    {"dhcp", "CONFIG_CMD_DHCP"},       {NULL, NULL}};

static const char *const relocation_limits[] = {"fdt_high", "initrd_high", NULL};

const struct mos_dialect mos_dialect_u_boot = {
    .name = "u-boot",
    .script_file = "boot.scr",
    .write_script = write_script,
    .wrap_script = wrap_script,
    .write_emmc_setup = write_emmc_setup,
    .sets_variable = sets_variable,
    .commands = commands,
    .symbols = {.environment_at = "CONFIG_ENV_OFFSET",
                .environment_copy_at = "CONFIG_ENV_OFFSET_REDUND",
                .environment_size = "CONFIG_ENV_SIZE",
                .flag_byte = "CONFIG_SYS_REDUNDAND_ENVIRONMENT",
                .reads_fat = "CONFIG_FS_FAT",
                .reads_ext4 = "CONFIG_FS_EXT4",
                .baud = "CONFIG_BAUDRATE",
                .next_stage_sector = "CONFIG_SYS_MMCSD_RAW_MODE_U_BOOT_SECTOR",
                .relocation_limits = relocation_limits},
};
