#include "binaries.h"

#include "base/bytes.h"

#include <string.h>

size_t make_program(uint8_t *p, bool wide, unsigned machine, const char *interpreter,
                    size_t loaded) {
    size_t head = wide ? 64 : 52, row = wide ? 56 : 32, text = head + 3 * row;
    memset(p, 0, 1024);
    memcpy(p, "\177ELF", 4);
    p[4] = wide ? 2 : 1;
    mos_put_le16(p + 18, (uint16_t)machine);
    mos_put_le32(p + (wide ? 32 : 28), (uint32_t)head);
    mos_put_le16(p + (wide ? 54 : 42), (uint16_t)row);
    mos_put_le16(p + (wide ? 56 : 44), 3);
    const struct {
        uint32_t type;
        size_t at, length;
    } rows[] = {{6, head, row}, /* the headers themselves */
                {interpreter ? 3 : 4, text, interpreter ? strlen(interpreter) + 1 : 0},
                {1, 0, loaded}};
    for (size_t i = 0; i < 3; i++) {
        uint8_t *h = p + head + i * row;
        mos_put_le32(h, rows[i].type);
        mos_put_le32(h + (wide ? 8 : 4), (uint32_t)rows[i].at);
        mos_put_le32(h + (wide ? 32 : 16), (uint32_t)rows[i].length);
    }
    if (interpreter)
        strcpy((char *)p + text, interpreter);
    return 1024;
}

void make_sections(struct mos_buf *out, bool wide, const struct elf_section *sections,
                   size_t count) {
    size_t head = wide ? 64 : 52, row = wide ? 64 : 40, texts = 11, at = head;
    mos_buf_zeros(out, head);
    mos_buf_add(out, "\0.shstrtab", 11); /* the names, each ended by a zero byte */
    for (size_t i = 0; i < count; i++) {
        mos_buf_add(out, sections[i].name, strlen(sections[i].name) + 1);
        texts += strlen(sections[i].name) + 1;
    }
    for (size_t i = 0; i < count; i++)
        mos_buf_add(out, sections[i].bytes, sections[i].length);
    size_t table = out->length, name = 11;
    mos_buf_zeros(out, (count + 2) * row);
    uint8_t *p = (uint8_t *)out->data;
    memcpy(p, "\177ELF", 4);
    p[4] = wide ? 2 : 1;
    p[18] = wide ? 183 : 40;
    p[wide ? 58 : 46] = (uint8_t)row;
    p[wide ? 60 : 48] = (uint8_t)(count + 2);
    p[wide ? 62 : 50] = 1;
    mos_put_le32(p + (wide ? 40 : 32), (uint32_t)table);
    for (size_t i = 0; i <= count; i++) { /* the names come first */
        uint8_t *s = p + table + (i + 1) * row;
        size_t length = i ? sections[i - 1].length : texts;
        mos_put_le32(s, (uint32_t)(i ? name : 1));
        mos_put_le32(s + (wide ? 24 : 16), (uint32_t)at);
        mos_put_le32(s + (wide ? 32 : 20), (uint32_t)length);
        name += i ? strlen(sections[i - 1].name) + 1 : 0;
        at += length;
    }
}

void make_module(struct mos_buf *out, bool wide, const char *facts, size_t length) {
    make_sections(out, wide, &(struct elf_section){".modinfo", facts, length}, 1);
}

void make_zimage(uint8_t z[ZIMAGE]) {
    static const uint32_t words[] = {6, 0x5a534c4b, 7000, 0x100000, 0x208000, 0x10000};
    memset(z, 0, ZIMAGE);
    mos_put_le32(z + 36, 0x016f2818);
    mos_put_le32(z + 44, ZIMAGE);
    mos_put_le32(z + 0x34, 0x45454545);
    mos_put_le32(z + 0x38, 8000);
    for (size_t i = 0; i < 6; i++)
        mos_put_le32(z + 8000 + 4 * i, words[i]);
    mos_put_le32(z + 7000, 0x1300000);
}
