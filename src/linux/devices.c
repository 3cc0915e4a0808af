#include "linux/devices.h"

#include <assert.h>
#include <ctype.h>
#include <stdlib.h>
#include <string.h>

/* ---- media ---- */

static const struct {
    const char *bus, *before, *behind;
    bool letters; /* a, b … instead of 0, 1 … */
} buses[] = {{"mmc", "mmcblk", "", false}, {"nvme", "nvme", "n1", false}, {"mtd", "mtd", "", false},
             {"virtio", "vd", "", true},   {"usb", "sd", "", true},       {"scsi", "sd", "", true}};

const char *mos_device_on_bus(struct mos_arena *arena, const char *bus, unsigned number) {
    for (size_t i = 0; i < sizeof buses / sizeof *buses; i++) {
        if (strcmp(buses[i].bus, bus) != 0)
            continue;
        if (!buses[i].letters)
            return mos_printf(arena, "%s%u%s", buses[i].before, number, buses[i].behind);
        return number < 26 ? mos_printf(arena, "%s%c", buses[i].before, (char)('a' + number))
                           : NULL;
    }
    return NULL;
}

static bool ends_in_digit(const char *name) {
    size_t n = strlen(name);
    return n && isdigit((unsigned char)name[n - 1]);
}

const char *mos_device_partition(struct mos_arena *arena, const char *medium, unsigned number) {
    assert(*medium && number);
    return mos_printf(arena, "%s%s%u", medium, ends_in_digit(medium) ? "p" : "", number);
}

bool mos_device_is_of(const char *name, const char *medium, unsigned *number) {
    assert(name && medium);
    size_t n = strlen(medium);
    *number = 0;
    if (!n || strncmp(name, medium, n) != 0)
        return false;
    name += n;
    if (!*name)
        return true;
    if (ends_in_digit(medium) && *name++ != 'p')
        return false;
    size_t digits = strspn(name, "0123456789");
    if (!digits || name[digits] || digits > 5 || *name == '0')
        return false;
    *number = (unsigned)strtoul(name, NULL, 10);
    return true;
}

/* ---- names with a number ---- */

bool mos_device_number(const char *name, size_t *stem, unsigned long *number) {
    size_t end = strlen(name);
    *stem = end;
    while (*stem && isdigit((unsigned char)name[*stem - 1]))
        --*stem;
    *number = strtoul(name + *stem, NULL, 10);
    return *stem != end;
}

bool mos_device_has_stem(const char *name, const char *stem) {
    size_t n = strlen(stem);
    return strncmp(name, stem, n) == 0 && isdigit((unsigned char)name[n]);
}

/* ---- serial ports ---- */

bool mos_port_is_serial(const char *text, size_t length) {
    return length > 4 && strncmp(text, "tty", 3) == 0 && isupper((unsigned char)text[3]);
}

size_t mos_port_split(const char *text, unsigned long *baud) {
    size_t n = strcspn(text, ",");
    *baud = text[n] ? strtoul(text + n + 1, NULL, 10) : 0;
    return n;
}

const char *mos_port_of(const char *compatible, size_t length) {
    static const char *const kinds[][2] = {{"arm,pl011", "ttyAMA"},
                                           {"arm,sbsa-uart", "ttyAMA"},
                                           {"ns16550a", "ttyS"},
                                           {"ns16550", "ttyS"},
                                           {"snps,dw-apb-uart", "ttyS"},
                                           {"nvidia,tegra20-uart", "ttyS"},
                                           {"xlnx,xuartps", "ttyPS"},
                                           {"cdns,uart-r1p12", "ttyPS"},
                                           {"xlnx,xps-uartlite-1.00.a", "ttyUL"},
                                           {"sifive,uart0", "ttySIF"},
                                           {"fsl,imx21-uart", "ttymxc"},
                                           {"fsl,vf610-lpuart", "ttyLP"},
                                           {"st,stm32h7-uart", "ttySTM"},
                                           {"amlogic,meson-gx-uart", "ttyAML"},
                                           {"marvell,armada-3700-uart", "ttyMV"},
                                           {"samsung,exynos4210-uart", "ttySAC"},
                                           {"renesas,scif", "ttySC"}};
    for (size_t at = 0; at < length;) {
        size_t n = strnlen(compatible + at, length - at);
        for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
            if (strlen(kinds[i][0]) == n && memcmp(kinds[i][0], compatible + at, n) == 0)
                return kinds[i][1];
        at += n + 1;
    }
    return NULL;
}

const char *mos_port_driver(const char *port) {
    static const char *const known[][2] = {{"ttyAMA", "CONFIG_SERIAL_AMBA_PL011"},
                                           {"ttyS", "CONFIG_SERIAL_8250"}};
    for (size_t i = 0; i < sizeof known / sizeof *known; i++)
        if (mos_device_has_stem(port, known[i][0]))
            return known[i][1];
    return NULL;
}

/* ---- device files ---- */

/* `name` may end in a number, which is added to the minor one as many times as `step` says; step 0:
 * the name is all of it.  `parts`: "p1" may follow, one minor number each. */
static const struct known {
    const char *name;
    char kind;
    unsigned major, minor, step;
    bool parts;
} all[] = {{"console", 'c', 5, 1, 0, false},    {"tty", 'c', 5, 0, 0, false},
           {"ptmx", 'c', 5, 2, 0, false},       {"null", 'c', 1, 3, 0, false},
           {"zero", 'c', 1, 5, 0, false},       {"full", 'c', 1, 7, 0, false},
           {"random", 'c', 1, 8, 0, false},     {"urandom", 'c', 1, 9, 0, false},
           {"kmsg", 'c', 1, 11, 0, false},      {"mem", 'c', 1, 1, 0, false},
           {"tty", 'c', 4, 0, 1, false},        {"ttyS", 'c', 4, 64, 1, false},
           {"ttyAMA", 'c', 204, 64, 1, false},  {"ram", 'b', 1, 0, 1, false},
           {"loop", 'b', 7, 0, 1, false},       {"mtdblock", 'b', 31, 0, 1, false},
           {"mtd", 'c', 90, 0, 2, false},       {"i2c-", 'c', 89, 0, 1, false},
           {"fb", 'c', 29, 0, 1, false},        {"mmcblk", 'b', 179, 0, 8, true},
           {"watchdog", 'c', 10, 130, 0, false}};

/* *minor becomes the name's own. */
static bool is_known(const struct known *k, const char *name, unsigned *minor) {
    size_t n = strlen(k->name);
    char *end = NULL;
    *minor = k->minor;
    if (strncmp(name, k->name, n) != 0 || (!k->step && name[n]))
        return false;
    if (!k->step)
        return true;
    if (!isdigit((unsigned char)name[n]))
        return false;
    unsigned long number = strtoul(name + n, &end, 10), part = 0;
    if (k->parts && *end == 'p' && isdigit((unsigned char)end[1]))
        part = strtoul(end + 1, &end, 10);
    if (*end || number >= 256 || part >= 8)
        return false;
    *minor += (unsigned)(number * k->step + part);
    return true;
}

bool mos_device_file(const char *name, struct mos_device_file *out) {
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        unsigned minor;
        if (!is_known(&all[i], name, &minor))
            continue;
        *out = (struct mos_device_file){all[i].kind, all[i].major, minor};
        return true;
    }
    return false;
}
