/* Values that are one of a few words: each set once, as words for the schema (tables.c) and as an
 * enum for everybody else.  TYPE_of(value) is the choice, or ..._UNSTATED where none (or a wrong
 * one) is stated. */
#ifndef MOS_MODEL_CHOICES_H
#define MOS_MODEL_CHOICES_H

#define MOS_CPUS(X)                                                                                \
    X(MOS_CPU_ARM64, "arm64")                                                                      \
    X(MOS_CPU_ARM, "arm") X(MOS_CPU_RISCV64, "riscv64") X(MOS_CPU_X86_64, "x86-64")
#define MOS_MEDIUM_KINDS(X)                                                                        \
    X(MOS_MEDIUM_SD, "sd")                                                                         \
    X(MOS_MEDIUM_EMMC, "emmc")                                                                     \
    X(MOS_MEDIUM_NOR, "nor")                                                                       \
    X(MOS_MEDIUM_NAND, "nand")                                                                     \
    X(MOS_MEDIUM_DISK, "disk") X(MOS_MEDIUM_USB, "usb") X(MOS_MEDIUM_NVME, "nvme")
#define MOS_PURPOSES(X) X(MOS_PURPOSE_BENCH, "bench") X(MOS_PURPOSE_FIELD, "field")
#define MOS_STARTERS(X) X(MOS_STARTER_INITTAB, "inittab") X(MOS_STARTER_SYSTEMD, "systemd")
#define MOS_USER_SPANS(X) X(MOS_USER_FIRST_START, "first-start")
#define MOS_FIRST_ENDS(X)                                                                          \
    X(MOS_FIRST_ENDS_NEXT_START, "next-start") X(MOS_FIRST_ENDS_COMMAND, "command")
#define MOS_NETWORK_FORMS(X)                                                                       \
    X(MOS_NETWORK_INTERFACES, "interfaces") X(MOS_NETWORK_NETWORKD, "networkd")
/* How an image comes onto a board's soldered storage. */
#define MOS_PROGRAM_WAYS(X)                                                                        \
    X(MOS_PROGRAM_BY_NETWORK, "network")                                                           \
    X(MOS_PROGRAM_BY_SERIAL, "serial")                                                             \
    X(MOS_PROGRAM_BY_USB_DISK, "usb-disk") X(MOS_PROGRAM_BY_DFU, "dfu")
#define MOS_STATUSES(X) X(MOS_STATUS_RETIRED, "retired")
#define MOS_OWNERS(X)                                                                              \
    X(MOS_OWNER_BUILD, "build") X(MOS_OWNER_FACTORY, "factory") X(MOS_OWNER_DEVICE, "device")
#define MOS_MADES(X)                                                                               \
    X(MOS_MADE_BOOT, "boot")                                                                       \
    X(MOS_MADE_SYSTEM, "system") X(MOS_MADE_MODULE_INDEX, "module-index")
#define MOS_OUTPUT_FORMS(X) X(MOS_OUTPUT_GZ, "gz") X(MOS_OUTPUT_XZ, "xz") X(MOS_OUTPUT_ZST, "zst")
#define MOS_RAMDISK_FORMS(X)                                                                       \
    X(MOS_RAMDISK_GZ, "gz") X(MOS_RAMDISK_ZST, "zst") X(MOS_RAMDISK_PLAIN, "none")
#define MOS_BASES(X) X(MOS_BASE_DEFAULTS, "defaults") X(MOS_BASE_NONE, "none")
#define MOS_VIAS(X)                                                                                \
    X(MOS_VIA_SCRIPT, "script")                                                                    \
    X(MOS_VIA_MENU, "menu")                                                                        \
    X(MOS_VIA_PARCEL, "parcel") X(MOS_VIA_ENVIRONMENT, "environment") X(MOS_VIA_STAGE, "stage")
#define MOS_UNTILS(X)                                                                              \
    X(MOS_UNTIL_LOG_IN, "log-in") X(MOS_UNTIL_SHELL, "shell") X(MOS_UNTIL_LOADER, "loader")
#define MOS_OTHERWISES(X) X(MOS_OTHERWISE_PROMPT, "prompt") X(MOS_OTHERWISE_RESET, "reset")
#define MOS_MOMENTS(X) X(MOS_MOMENT_BUILD, "build") X(MOS_MOMENT_BOOT, "boot")
#define MOS_PACKS(X)                                                                               \
    X(MOS_PACK_PLAIN, "plain")                                                                     \
    X(MOS_PACK_CONTENTS, "contents") X(MOS_PACK_PARCEL, "parcel") X(MOS_PACK_LEGACY, "legacy")
#define MOS_STAGE_FORMS(X)                                                                         \
    X(MOS_STAGE_PLAIN, "plain")                                                                    \
    X(MOS_STAGE_PROGRAM, "program")                                                                \
    X(MOS_STAGE_LEGACY, "legacy") X(MOS_STAGE_PARCEL, "parcel")
#define MOS_DISKS(X) X(MOS_DISK_VIRTIO, "virtio") X(MOS_DISK_NVME, "nvme") X(MOS_DISK_USB, "usb")
#define MOS_PART_SUMS(X) X(MOS_PART_SHA256, "sha256") X(MOS_PART_CRC32, "crc32")

#define MOS_CHOICE_SYMBOL(symbol, word) symbol,
#define MOS_CHOICE_WORD(symbol, word) word,
#define MOS_CHOICES(type, ROWS, unstated)                                                          \
    enum type { unstated = -1, ROWS(MOS_CHOICE_SYMBOL) };                                          \
    static inline enum type type##_of(const struct mos_value *v) {                                 \
        return mos_has(v) ? (enum type)v->number : unstated;                                       \
    }

MOS_CHOICES(mos_cpu, MOS_CPUS, MOS_CPU_UNSTATED)
MOS_CHOICES(mos_medium_kind, MOS_MEDIUM_KINDS, MOS_MEDIUM_UNSTATED)
MOS_CHOICES(mos_purpose, MOS_PURPOSES, MOS_PURPOSE_UNSTATED)
MOS_CHOICES(mos_starter, MOS_STARTERS, MOS_STARTER_UNSTATED)
MOS_CHOICES(mos_user_span, MOS_USER_SPANS, MOS_USER_ALWAYS)
MOS_CHOICES(mos_first_end, MOS_FIRST_ENDS, MOS_FIRST_ENDS_UNSTATED)
MOS_CHOICES(mos_network_form, MOS_NETWORK_FORMS, MOS_NETWORK_UNSTATED)
MOS_CHOICES(mos_owner, MOS_OWNERS, MOS_OWNER_UNSTATED)
MOS_CHOICES(mos_made, MOS_MADES, MOS_MADE_UNSTATED)
MOS_CHOICES(mos_ramdisk_form, MOS_RAMDISK_FORMS, MOS_RAMDISK_UNSTATED)
MOS_CHOICES(mos_base, MOS_BASES, MOS_BASE_UNSTATED)
MOS_CHOICES(mos_via, MOS_VIAS, MOS_VIA_UNSTATED)
MOS_CHOICES(mos_until, MOS_UNTILS, MOS_UNTIL_UNSTATED)
MOS_CHOICES(mos_otherwise, MOS_OTHERWISES, MOS_OTHERWISE_UNSTATED)
MOS_CHOICES(mos_moment, MOS_MOMENTS, MOS_MOMENT_UNSTATED)
MOS_CHOICES(mos_disk, MOS_DISKS, MOS_DISK_UNSTATED)
MOS_CHOICES(mos_pack, MOS_PACKS, MOS_PACK_UNSTATED)
MOS_CHOICES(mos_program_way, MOS_PROGRAM_WAYS, MOS_PROGRAM_WAY_UNSTATED)

#endif
