/* This loader for everybody else: its names, limits and symbols (its own doc/ and the Kconfig files
 * of version 2023.01). */
#define _GNU_SOURCE /* memmem */
#include "loaders/u-boot/u-boot.h"

#include "loaders/u-boot/environment.h"
#include "loaders/u-boot/legacy.h"
#include "loaders/u-boot/lock.h"
#include "loaders/u-boot/variables.h"

#include <string.h>

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

static const char *const port_addresses[] = {"ethaddr",  "eth1addr", "eth2addr",
                                             "eth3addr", "eth4addr", NULL};

static const struct mos_loader_command commands[] = {{"booti", "CONFIG_CMD_BOOTI"},
                                                     {"bootz", "CONFIG_CMD_BOOTZ"},
                                                     {"bootm", "CONFIG_CMD_BOOTM"},
                                                     {"source", "CONFIG_CMD_SOURCE"},
                                                     {"load", "CONFIG_CMD_FS_GENERIC"},
                                                     {"fatload", "CONFIG_CMD_FAT"},
                                                     {"ext4load", "CONFIG_CMD_EXT4"},
                                                     {"part", "CONFIG_CMD_PART"},
                                                     {"setexpr", "CONFIG_CMD_SETEXPR"},
                                                     {"itest", "CONFIG_CMD_ITEST"},
                                                     {"sysboot", "CONFIG_CMD_SYSBOOT"},
                                                     {"mmc", "CONFIG_CMD_MMC"},
                                                     {"sf", "CONFIG_CMD_SF"},
                                                     {"nand", "CONFIG_CMD_NAND"},
                                                     {"usb", "CONFIG_CMD_USB"},
                                                     {"nvme", "CONFIG_CMD_NVME"},
                                                     {"saveenv", "CONFIG_CMD_SAVEENV"},
                                                     {"fdt", "CONFIG_OF_LIBFDT"},
                                                     {"tftpboot", "CONFIG_CMD_TFTPBOOT"},
                                                     {"dhcp", "CONFIG_CMD_DHCP"},
                                                     {"virtio", "CONFIG_CMD_VIRTIO"},
                                                     {"scsi", "CONFIG_CMD_SCSI"},
                                                     {"sata", "CONFIG_CMD_SATA"},
                                                     {"flinfo", "CONFIG_CMD_FLASH"},
                                                     {"protect", "CONFIG_CMD_FLASH"},
                                                     {"erase", "CONFIG_CMD_FLASH"},
                                                     {"cp", "CONFIG_CMD_MEMORY"},
                                                     {"mw", "CONFIG_CMD_MEMORY"},
                                                     {"crc32", "CONFIG_CMD_CRC32"},
                                                     {"loady", "CONFIG_CMD_LOADB"},
                                                     {"bdinfo", "CONFIG_CMD_BDI"},
                                                     {NULL, NULL}};

static const struct mos_loader_command forms[] = {{"gpt", "CONFIG_EFI_PARTITION"},
                                                  {"mbr", "CONFIG_DOS_PARTITION"},
                                                  {"gzip", "CONFIG_GZIP"},
                                                  {"bzip2", "CONFIG_BZIP2"},
                                                  {"lz4", "CONFIG_LZ4"},
                                                  {"zstd", "CONFIG_ZSTD"},
                                                  {"parcels", "CONFIG_FIT"},
                                                  {"signatures", "CONFIG_FIT_SIGNATURE"},
                                                  {"scripts", "CONFIG_LEGACY_IMAGE_FORMAT"},
                                                  {"overlays", "CONFIG_OF_LIBFDT_OVERLAY"},
                                                  {"trees", "CONFIG_OF_LIBFDT"},
                                                  {"words", "CONFIG_HUSH_PARSER"},
                                                  {NULL, NULL}};

static const struct mos_loader_command storage[] = {
    {"mmc", "CONFIG_MMC"},           {"sf", "CONFIG_SPI_FLASH"}, {"nand", "CONFIG_MTD_RAW_NAND"},
    {"usb", "CONFIG_USB_STORAGE"},   {"nvme", "CONFIG_NVME"},    {"scsi", "CONFIG_SCSI"},
    {"virtio", "CONFIG_VIRTIO_BLK"}, {"sata", "CONFIG_SATA"},    {NULL, NULL}};

static const struct mos_loader_command first_storage[] = {{"mmc", "CONFIG_SPL_MMC"},
                                                          {"sf", "CONFIG_SPL_SPI_FLASH_SUPPORT"},
                                                          {"nand", "CONFIG_SPL_NAND_SUPPORT"},
                                                          {"usb", "CONFIG_SPL_USB_STORAGE"},
                                                          {NULL, NULL}};

static const struct mos_loader_command processors[] = {{"arm64", "CONFIG_ARM64"},
                                                       {"riscv64", "CONFIG_ARCH_RV64I"},
                                                       {"x86-64", "CONFIG_X86"},
                                                       {"arm", "CONFIG_ARM"},
                                                       {NULL, NULL}};

static const struct mos_loader_keeping keepings[] = {
    {"CONFIG_ENV_IS_NOWHERE", MOS_KEEPS_NOWHERE, "nowhere", NULL},
    {"CONFIG_ENV_IS_IN_MMC", MOS_KEEPS_MMC, "on a card or an eMMC, outside of any file", NULL},
    {"CONFIG_ENV_IS_IN_FAT", MOS_KEEPS_FILE, "in a file of a FAT volume", "fat"},
    {"CONFIG_ENV_IS_IN_EXT4", MOS_KEEPS_FILE, "in a file of an ext4 volume", "ext4"},
    {"CONFIG_ENV_IS_IN_SPI_FLASH", MOS_KEEPS_NOR, "in a serial flash", NULL},
    {"CONFIG_ENV_IS_IN_FLASH", MOS_KEEPS_NOR, "in a parallel flash", NULL},
    {"CONFIG_ENV_IS_IN_NAND", MOS_KEEPS_NAND, "in a raw NAND", NULL},
    {"CONFIG_ENV_IS_IN_UBI", MOS_KEEPS_NAND, "in a UBI volume", NULL},
    {"CONFIG_ENV_IS_IN_EEPROM", MOS_KEEPS_OTHER, "in an EEPROM", NULL},
    {"CONFIG_ENV_IS_IN_ONENAND", MOS_KEEPS_OTHER, "in a OneNAND", NULL},
    {"CONFIG_ENV_IS_IN_REMOTE", MOS_KEEPS_OTHER, "in another processor's memory", NULL},
    {"CONFIG_ENV_IS_IN_SATA", MOS_KEEPS_OTHER, "on a SATA disk", NULL},
    {"CONFIG_ENV_IS_IN_NVRAM", MOS_KEEPS_OTHER, "in battery-backed RAM", NULL},
    {NULL, MOS_KEEPS_NOWHERE, NULL, NULL}};

static const struct mos_loader_medium media[] = {
    {"mmc", "sd", "mmc"},     {"mmc", "emmc", "mmc"},     {"usb", "usb", "usb"},
    {"nvme", "nvme", "nvme"}, {"scsi", "disk", "scsi"},   {"sf", "nor", "mtd"},
    {"nand", "nand", "mtd"},  {"virtio", NULL, "virtio"}, {NULL, NULL, NULL}};

static const char *const searched[] = {"extlinux/extlinux.conf", "boot.scr.uimg", "boot.scr", NULL};

static const char *const relocation_limits[] = {"fdt_high", "initrd_high", NULL};

/* ---- the form of its variables for a running system ---- */

/* Device, offset, size (and block size on flash) of a copy. */
static void write_place(struct mos_buf *out, const char *device, uint64_t at, uint64_t size,
                        uint64_t erase) {
    mos_buf_printf(out, "%s 0x%llx 0x%llx", device, (unsigned long long)at,
                   (unsigned long long)size);
    if (erase)
        mos_buf_printf(out, " 0x%llx", (unsigned long long)erase);
    mos_buf_char(out, '\n');
}

static const struct mos_stored_form stored = {.file = "uboot.env",
                                              .flag_at = 4,
                                              .size = mos_environment_size,
                                              .write = mos_environment_write,
                                              .read = mos_environment_read,
                                              .find = mos_environment_find,
                                              .system_file = "etc/fw_env.config",
                                              .confirms = "/usr/bin/fw_setenv boot_tries 0",
                                              .chooses = "/usr/bin/fw_setenv boot_entry",
                                              .write_place = write_place};

static const char *recognise(struct mos_arena *arena, const uint8_t *head, size_t length,
                             const char **about) {
    struct mos_legacy legacy;
    const char *problem;
    if (length < MOS_LEGACY_HEADER || !mos_legacy_is(head, length))
        return NULL;
    bool good = mos_legacy_read(head, MOS_LEGACY_HEADER, &legacy, &problem);
    if (about)
        *about = mos_printf(arena, "legacy file \"%s\"%s%s", good ? legacy.name : "",
                            good ? "" : ", damaged: ", good ? "" : problem);
    return "legacy";
}

static const char *const reads_file[] = {"load", NULL}, *const reads_menu[] = {"sysboot", NULL},
                         *const runs_script[] = {"source", NULL},
                         *const counts[] = {"saveenv", "setexpr", NULL};

static const char *const expands[] = {"gzip", "bzip2", "lzma", "lzo", "lz4", "zstd", NULL};

/* ---- its first words ---- */

/* "2023.01 (Aug 09 2023 - 12:00:00 +0000)": as it stands behind its name. */
static const char *version(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                           bool first) {
    const char *name = first ? "U-Boot SPL 20" : "U-Boot 20";
    const uint8_t *end = bytes + length, *at = bytes;
    while ((at = memmem(at, (size_t)(end - at), name, strlen(name)))) {
        const uint8_t *from = at + strlen(name) - 2, *p = from;
        while (p < end && p - from < 100 && *p >= ' ' && *p < 0x7f && *p != ')')
            p++;
        if (p < end && *p == ')')
            return mos_strndup(arena, (const char *)from, (size_t)(p - from) + 1);
        at = from;
    }
    return NULL;
}

static const struct mos_loader_speech speech = {.first = "^U-Boot SPL {20...)}",
                                                .loader = "^U-Boot {20...)}",
                                                .hands_over = "^Starting kernel ...",
                                                .version = version};

const struct mos_dialect mos_dialect_u_boot = {
    .name = "u-boot",
    .script_file = "boot.scr",
    .script_suffix = "scr",
    .write_script = ub_write_script,
    .write_network = ub_write_network,
    .menu_file = "extlinux/extlinux.conf",
    .write_menu = ub_write_menu,
    .write_variables = ub_write_variables,
    .wrap_script = ub_wrap_script,
    .wrap = mos_legacy_wrap,
    .applies = true,
    .moves = true,
    .expands = expands,
    .parcels = true,
    .write_emmc_setup = ub_write_emmc_setup,
    .write_flash_program = ub_write_flash_program,
    .orders = &ub_orders,
    .questions = &ub_questions,
    .speech = &speech,
    .stored = &stored,
    .recognise = recognise,
    .lock = mos_lock_loader,
    .language = {.variables = mos_shell_variables,
                 .follow = ub_follow,
                 .sets = sets_variable,
                 .port_addresses = port_addresses,
                 .verbs = ub_verbs},
    .starts = {[MOS_KERNEL_IMAGE] = "booti",
               [MOS_KERNEL_ZIMAGE] = "bootz",
               [MOS_KERNEL_WRAPPED] = "bootm"},
    .parcel_starts = "bootm",
    .ways = {.file = reads_file,
             .menu = reads_menu,
             .script = runs_script,
             .parcel = runs_script,
             .counted = counts},
    .commands = commands,
    .forms = forms,
    .storage = storage,
    .first_storage = first_storage,
    .processors = processors,
    .keepings = keepings,
    .media = media,
    .starts_file = ub_starts_file,
    .search = {.mark = "distro_bootcmd", .media = "boot_targets", .files = searched},
    .unknown = {"Unknown command '", "'"},
    .symbols = {.waits = "bootdelay",
                .environment_at = "CONFIG_ENV_OFFSET",
                .environment_copy_at = "CONFIG_ENV_OFFSET_REDUND",
                .environment_size = "CONFIG_ENV_SIZE",
                .flag_byte = "CONFIG_SYS_REDUNDAND_ENVIRONMENT",
                .expands_to = "kernel_comp_addr_r",
                .expands_size = "kernel_comp_size",
                .baud = "CONFIG_BAUDRATE",
                .environment_device = "CONFIG_SYS_MMC_ENV_DEV",
                .environment_area = "CONFIG_SYS_MMC_ENV_PART",
                .next_stage_by_sector = "CONFIG_SYS_MMCSD_RAW_MODE_U_BOOT_USE_SECTOR",
                .next_stage_by_partition = "CONFIG_SYS_MMCSD_RAW_MODE_U_BOOT_USE_PARTITION",
                .next_stage_partition = "CONFIG_SYS_MMCSD_RAW_MODE_U_BOOT_PARTITION",
                .next_stage_file = "CONFIG_SPL_FS_LOAD_PAYLOAD_NAME",
                .starts_by_itself = "CONFIG_AUTOBOOT",
                .most_words = "CONFIG_SYS_MAXARGS",
                .most_kernel = "CONFIG_SYS_BOOTM_LEN",
                .most_line = "CONFIG_SYS_CBSIZE",
                .picks_by_tree = "CONFIG_FIT_BEST_MATCH",
                .next_stage_sector = "CONFIG_SYS_MMCSD_RAW_MODE_U_BOOT_SECTOR",
                .address_of = {"kernel_addr_r", "fdt_addr_r", "ramdisk_addr_r"},
                .overlay_address = "fdtoverlay_addr_r",
                .limit_of = {NULL, "fdt_high", "initrd_high"},
                .bound_from = "bootm_low",
                .bound_size = "bootm_size",
                .bound_map = "bootm_mapsize",
                .bound_map_symbol = "CONFIG_SYS_BOOTMAPSZ",
                .relocation_limits = relocation_limits},
    .simulated = &ub_simulated,
};
