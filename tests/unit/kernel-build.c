/* What a kernel's build files and sources say, and the map of one that was linked. */
#include "support.h"

#include "kconfig/build.h"
#include "linux/link-map.h"

#include <string.h>

/* ---- build files ---- */

static const char *built_by(struct core *c, const struct mos_kc_build *b, const char *object) {
    struct mos_vec symbols = mos_vec_make(c->ctx.arena, sizeof(char *));
    struct mos_buf text = {.arena = c->ctx.arena};
    const char *module;
    size_t own;
    if (!mos_kc_build_symbols(b, c->ctx.arena, object, NULL, NULL, &symbols, &own, &module))
        return "nobody";
    mos_buf_text(&text, module);
    for (size_t i = 0; i < symbols.count; i++)
        mos_buf_printf(&text, "%s%s", i == own ? " / " : " ",
                       (const char *)mos_vec_pointer(&symbols, i));
    return mos_buf_string(&text);
}

static void build_files_say_who_builds(void) {
    static const struct {
        const char *file, *text;
    } files[] = {
        {"Makefile", "obj-y += drivers/ # all\n"},
        {"drivers/Makefile", "obj-$(CONFIG_TIDE) += tide/\nobj-y\t:= \\\n  mast.o \\\n  lamp.o\n"},
        {"drivers/tide/Makefile",
         "obj-$(CONFIG_GAUGE)\t+= gauge.o\ngauge-y := core.o\ngauge-objs := old.o\n"
         "gauge-$(CONFIG_GAUGE_I2C) += i2c.o\nwell-objs-$(CONFIG_WELL_SPI) += spi.o\n"
         "obj-$(CONFIG_WELL) += well.o $(others)\nobj-m += always.o\n\techo obj-y += no.o\n"
         "ccflags-$(CONFIG_DEBUG) += -DX.o\n"},
    };
    static const char *const rows[][2] = {
        {"drivers/mast.o", "drivers/mast.o"},
        {"drivers/lamp.o", "drivers/lamp.o"},
        {"drivers/tide/gauge.o", "drivers/tide/gauge.o GAUGE / TIDE"},
        {"drivers/tide/core.o", "drivers/tide/gauge.o GAUGE / TIDE"},
        {"drivers/tide/old.o", "drivers/tide/gauge.o GAUGE / TIDE"},
        {"drivers/tide/i2c.o", "drivers/tide/gauge.o GAUGE_I2C GAUGE / TIDE"},
        {"drivers/tide/spi.o", "drivers/tide/well.o WELL_SPI WELL / TIDE"},
        {"drivers/tide/always.o", "drivers/tide/always.o / TIDE"},
        {"drivers/tide/no.o", "nobody"},
        {"drivers/tide/-DX.o", "nobody"},
    };
    struct core c;
    core_start(&c);
    struct mos_kc_build *b = mos_kc_build_new(c.ctx.arena);
    for (size_t i = 0; i < sizeof files / sizeof *files; i++)
        mos_kc_build_add(c.ctx.arena, b, files[i].file, files[i].text);
    mos_kc_build_finish(b);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        CU_ASSERT_STRING_EQUAL(built_by(&c, b, rows[i][0]), rows[i][1]);
    struct mos_vec objects = mos_vec_make(c.ctx.arena, sizeof(char *));
    mos_kc_build_objects(b, "GAUGE", &objects);
    CU_ASSERT_EQUAL_FATAL(objects.count, 1);
    CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&objects, 0), "drivers/tide/gauge.o");
    core_end(&c);
}

static void sources_say_what_they_serve(void) {
    static const char text[] =
        "\t{ .compatible = \"saltmarsh,gauge\", .data = &x },\n"
        "\t{ .compatible\t=\n\t\t\"saltmarsh,well\" },\n"
        "CLK_OF_DECLARE(sea, \"saltmarsh,clock\", init);\n"
        "IRQCHIP_MATCH(\"saltmarsh,lines\", init)\n"
        "TIMER_OF_DECLARE(tick,\n\t\"saltmarsh,timer\", init);\n"
        "OF_EARLYCON_DECLARE(port, \"saltmarsh,port\", setup);\n"
        "\t.of_compatible = \"saltmarsh,cell\",\n\tif (compatible == other) \"no\";\n"
        "static const struct i2c_device_id ids[] = {\n\t{ \"gauge\", 0 }, { .name = \"well\" "
        "},\n};\n"
        "struct spi_device_id one;\nstatic struct spi_device_id ids[] = { { \"mast\" } };\n"
        "\t.compatible = NAME,\n\t.compatible = \"cut";
    static const char *const served[] = {"saltmarsh,gauge", "saltmarsh,well",  "saltmarsh,clock",
                                         "saltmarsh,lines", "saltmarsh,timer", "i2c:gauge",
                                         "i2c:well",        "spi:mast"};
    const struct mos_kc_source_driver *first;
    struct core c;
    core_start(&c);
    struct mos_kc_build *b = mos_kc_build_new(c.ctx.arena);
    mos_kc_build_add(c.ctx.arena, b, "drivers/b.c", text);
    mos_kc_build_add(c.ctx.arena, b, "drivers/a.c", "{ .compatible = \"saltmarsh,well\" }");
    mos_kc_build_finish(b);
    CU_ASSERT_EQUAL(b->drivers.count, 9);
    for (size_t i = 0; i < sizeof served / sizeof *served; i++) {
        size_t count = mos_kc_build_drivers(b, served[i], &first);
        CU_ASSERT_EQUAL_FATAL(count, i == 1 ? 2 : 1);
        CU_ASSERT_STRING_EQUAL(first->file, i == 1 ? "drivers/a.c" : "drivers/b.c");
    }
    core_end(&c);
}

/* ---- what an object becomes ---- */

/* "NAME=m" for each symbol that is not off. */
static enum mos_tri said(void *self, const char *symbol) {
    size_t n = strlen(symbol);
    for (const char *p = self; *p; p += strcspn(p, " "), p += strspn(p, " "))
        if (strncmp(p, symbol, n) == 0 && p[n] == '=')
            return p[n + 1] == 'y' ? MOS_TRI_Y : MOS_TRI_M;
    return MOS_TRI_N;
}

static void objects_become_what_is_said(void) {
    static const char top[] = "obj-y += sea/\nobj-$(CONFIG_LAND) += land/\n",
                      sea[] = "obj-$(CONFIG_GAUGE) += gauge.o\ngauge-y := core.o\n"
                              "gauge-$(CONFIG_RADIO) += radio.o\nobj-$(CONFIG_MAST) += both.o\n"
                              "obj-$(CONFIG_LAMP) += both.o\nring-objs := ring.o ring.o\n"
                              "ring-y += ring.o\n",
                      land[] = "obj-y += path.o\nobj-$(CONFIG_ROAD) += road.o\n"
                               "ifdef CONFIG_A\nobj-y += a.o\nelse ifeq ($(CONFIG_B),y)\nobj-y += "
                               "b.o\nelse\nobj-y += c.o\nendif\nifneq ($(CONFIG_C), )\n ifeq "
                               "($(CONFIG_D),m)\nobj-y += d.o\n endif\nelse\nobj-y += e.o\nendif\n"
                               "ifeq ($(srctree),)\nobj-y += f.o\nendif\nobj-m += g.o\n"
                               "obj-$(subst m,y,$(CONFIG_H)) += h.o\nobj-y += i/j.o\n",
                      arch[] = "libs-$(CONFIG_K) += $(objtree)/sea/l/lib.a\ncore-y += sea/\n";
    static const struct {
        char said[40];
        const char *object;
        char becomes; /* '?': no build file names it */
        bool likely;  /* it hangs on what is not understood */
    } rows[] = {
        {"GAUGE=y", "sea/gauge.o", 'y'},
        {"GAUGE=m", "sea/gauge.o", 'm'},
        {"", "sea/gauge.o", 'n'},
        {"GAUGE=y", "sea/core.o", 'y'},
        {"GAUGE=m", "sea/core.o", 'm'},
        {"GAUGE=y", "sea/radio.o", 'n'},
        {"GAUGE=m RADIO=y", "sea/radio.o", 'm'},
        {"GAUGE=y RADIO=y", "sea/radio.o", 'y'},
        {"MAST=m LAMP=y", "sea/both.o", 'y'},
        {"MAST=m", "sea/both.o", 'm'},
        {"LAND=y", "land/path.o", 'y'},
        {"LAND=m", "land/path.o", 'n'},
        {"LAND=m ROAD=m", "land/road.o", 'm'},
        {"LAND=m ROAD=y", "land/road.o", 'n'},
        {"LAND=y ROAD=y", "land/road.o", 'y'},
        {"ROAD=y", "land/road.o", 'n'},
        {"", "land/none.o", '?'},
        {"LAND=y A=m", "land/a.o", 'y'},
        {"LAND=y", "land/a.o", 'n'},
        {"LAND=y B=y", "land/b.o", 'y'},
        {"LAND=y A=y B=y", "land/b.o", 'n'},
        {"LAND=y B=m", "land/b.o", 'n'},
        {"LAND=y", "land/c.o", 'y', true},
        {"LAND=y C=y D=m", "land/d.o", 'y'},
        {"LAND=y C=y D=y", "land/d.o", 'n'},
        {"LAND=y D=m", "land/d.o", 'n'},
        {"LAND=y", "land/e.o", 'y'},
        {"LAND=y C=m", "land/e.o", 'n'},
        {"LAND=y", "land/f.o", 'y', true},
        {"LAND=y", "land/g.o", 'm'},
        {"LAND=y H=m", "land/h.o", 'y'},
        {"LAND=y", "land/h.o", 'n'},
        {"LAND=y", "land/i/j.o", 'y', true},
        {"K=y", "sea/l/m.o", 'y'},
        {"", "sea/l/m.o", 'n'},
        {"", "sea/ring.o", '?'},
    };
    struct core c;
    core_start(&c);
    struct mos_kc_build *b = mos_kc_build_new(c.ctx.arena);
    mos_kc_build_add(c.ctx.arena, b, "Makefile", top);
    mos_kc_build_add(c.ctx.arena, b, "sea/Makefile", sea);
    mos_kc_build_add(c.ctx.arena, b, "land/Makefile", land);
    mos_kc_build_add(c.ctx.arena, b, "arch/tern/Makefile", arch);
    mos_kc_build_add(c.ctx.arena, b, "sea/l/Makefile", "lib-y += m.o\n");
    mos_kc_build_finish(b);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        char text[sizeof rows->said];
        enum mos_kc_certainty certainty;
        memcpy(text, rows[i].said, sizeof text);
        enum mos_tri v = mos_kc_build_value(b, c.ctx.arena, rows[i].object, said, text, &certainty);
        CU_ASSERT_EQUAL(certainty ? "nmy"[v] : '?', rows[i].becomes);
        CU_ASSERT_EQUAL(certainty == MOS_KC_LIKELY || certainty == MOS_KC_OPEN, rows[i].likely);
        bool open =
            strcmp(rows[i].object, "land/c.o") == 0 || strcmp(rows[i].object, "land/f.o") == 0;
        CU_ASSERT_EQUAL(certainty == MOS_KC_OPEN, open);
        if (strcmp(rows[i].object, "sea/both.o") == 0) { /* named by what makes it */
            struct mos_vec symbols = mos_vec_make(c.ctx.arena, sizeof(char *));
            const char *module;
            size_t own;
            mos_kc_build_symbols(b, c.ctx.arena, rows[i].object, said, text, &symbols, &own,
                                 &module);
            CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&symbols, 0), v == MOS_TRI_Y ? "LAMP" : "MAST");
        }
    }
    core_end(&c);
}

/* ---- the linker's map ---- */

static void maps_of_linkers_are_read(void) {
    static const char map[] =
        "Archive member included to satisfy reference by file (symbol)\n\n"
        "lib/lib.a(tide.o)             init/main.o (tide)\n\n"
        "Discarded input sections\n\n"
        " .exit.text     0x0000000000000000       0x40 drivers/gauge.o\n"
        " .discard.addressable\n                0x0000000000000000        0x8 init/main.o\n\n"
        "Linker script and memory map\n\n"
        "                0x0000000000000000                PROVIDE (start = .)\n"
        ".text           0xffff800008010000   0x123456 load address 0x0000000000010000\n"
        "                0xffff800008010000                _stext = .\n"
        " *(.text .text.*)\n"
        " .text          0xffff800008010000      0x100 init/main.o\n"
        "                0xffff800008010000                start_kernel\n"
        " .text.unlikely.and.long\n                0xffff800008010100       0x10 ./init/main.o\n"
        " *fill*         0xffff800008010110       0xf0 \n"
        " .text          0xffff800008010200       0x20 lib/lib.a(tide.o)\n"
        " .text          0xffff800008010220       0x30 vmlinux.a(drivers/gauge.o)\n"
        " .data          0xffff800008020000        0x0 drivers/empty.o\n"
        ".data..percpu\n                0x0000000000000000       0x20 load address 0x1\n"
        " .data..percpu  0x0000000000000000       0x18 drivers/gauge.o\n"
        ".bss\n                0xffff800008030000     0x2000\n"
        " .bss..aligned  0xffff800008030000     0x1000 init/main.o\n"
        " COMMON         0xffff800008031000        0x4 drivers/gauge.o\r\n"
        "\n.comment        0x0000000000000000       0x40\n"
        " .comment       0x0000000000000000       0x20 init/main.o\n"
        "                                         0x21 (size before relaxing)\n"
        " .comment       0x0000000000000020       0x20 drivers/gauge.o\n"
        " .text          0xffff800008010200       0x2";
    static const struct mos_link_size sizes[] = {{"init/main.o", 0x110, 0x1000},
                                                 {"lib/tide.o", 0x20, 0},
                                                 {"drivers/gauge.o", 0x48, 4},
                                                 {"drivers/empty.o", 0, 0}};
    struct core c;
    core_start(&c);
    struct mos_map all = mos_link_map_read(c.ctx.arena, map);
    CU_ASSERT_EQUAL_FATAL(all.count, sizeof sizes / sizeof *sizes);
    for (size_t i = 0; i < all.count; i++) {
        const struct mos_link_size *s = all.items[i].value;
        CU_ASSERT_STRING_EQUAL(s->object, sizes[i].object);
        CU_ASSERT_EQUAL(s->stored, sizes[i].stored);
        CU_ASSERT_EQUAL(s->cleared, sizes[i].cleared);
    }
    CU_ASSERT_EQUAL(mos_link_map_read(c.ctx.arena, "no map\n at all 0x1 0x2 x.o\n").count, 0);
    core_end(&c);
}

SUITE(kernel_build_suite, {"build files say who builds", build_files_say_who_builds},
      {"sources say what they serve", sources_say_what_they_serve},
      {"objects become what is said", objects_become_what_is_said},
      {"maps of linkers are read", maps_of_linkers_are_read});
