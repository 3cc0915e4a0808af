#include "form.h"

#include <CUnit/CUnit.h>

#include <ctype.h>
#include <regex.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A way out is an instruction: it begins with one of these words. */
static const char *const instructions[] = {
    "Add",     "Export", "Begin",   "Bring", "Build", "Change", "Choose",  "Close",
    "Compare", "Copy",   "Correct", "Get",   "Give",  "Go",     "Include", "Indent",
    "Install", "Keep",   "Leave",   "List",  "Look",  "Make",   "Mark",    "Move",
    "Name",    "Number", "Pass",    "Plan",  "Put",   "Pull",   "End",     "Find",
    "Quote",   "Remove", "Run",     "Save",  "Set",   "Solve",  "Split",   "State",
    "Take",    "Unpack", "Use",     "Write", "Check", "Fetch",
};
/* What may follow a 1 and end with an s. */
static const char *const single[] = {"is",     "was",     "has",  "needs", "uses",  "does",
                                     "goes",   "address", "this", "as",    "its",   "takes",
                                     "lies",   "makes",   "us",   "bus",   "class", "process",
                                     "starts", "less",    "was",  "boots", "names"};

static bool is_one_of(const char *const *list, size_t count, const char *word, size_t length) {
    for (size_t i = 0; i < count; i++)
        if (strlen(list[i]) == length && strncmp(list[i], word, length) == 0)
            return true;
    return false;
}
#define ONE_OF(list, word, length) is_one_of(list, sizeof(list) / sizeof *(list), word, length)

static void wrong(const char *what, const char *text, size_t length) {
    fprintf(stderr, "\nform: %s: %.*s\n", what, (int)length, text);
    CU_FAIL("the form of what is said");
}

/* A sentence, or several: no empty one, none without its end, none with blanks in front of it. */
static void sentence(const char *what, const char *text, size_t length) {
    if (!length || isspace((unsigned char)*text))
        wrong(what, "begins with nothing", 19);
    else if (!strchr(".?!…", text[length - 1]) && (unsigned char)text[length - 1] < 0x80)
        wrong(what, text, length);
}

static void way_out(const char *text, size_t length) {
    sentence("try", text, length);
    if (!ONE_OF(instructions, text, strcspn(text, " ,:")))
        wrong("try is no instruction", text, length);
}

/* A place on a medium is exact: "at 16896 KiB", "8192 to 15116 KiB". */
static bool is_place(const char *text, size_t at) {
    static const char *const before[] = {"at", "to"};
    size_t from = at;
    while (from && text[from - 1] != ' ')
        from--;
    return ONE_OF(before, text + from, at - from);
}

/* Numbers that nobody reads, and the plural of one; what is typed (try) may be longer. */
static void numbers(const char *line, size_t length) {
    static regex_t long_one, plural;
    static bool ready;
    if (!ready) {
        ready = true;
        CU_ASSERT_EQUAL_FATAL(
            regcomp(&long_one, "(^| )[0-9]{5,15}(\\.[0-9]+)? (KiB|MiB|GiB|bytes)", REG_EXTENDED),
            0);
        CU_ASSERT_EQUAL_FATAL(regcomp(&plural, "(^| )1 ([a-z]+s)( |\\.|,|:|;|$)", REG_EXTENDED), 0);
    }
    char *copy = strndup(line, length);
    regmatch_t m[3];
    if (regexec(&long_one, copy, 1, m, 0) == 0 && !is_place(copy, (size_t)m[0].rm_so))
        wrong("more than four digits", line, length);
    if (regexec(&plural, copy, 3, m, 0) == 0 &&
        !ONE_OF(single, copy + m[2].rm_so, (size_t)(m[2].rm_eo - m[2].rm_so)))
        wrong("the plural of one", line, length);
    free(copy);
}

static bool begins(const char *line, const char *with) {
    return strncmp(line, with, strlen(with)) == 0;
}

/* One finding, from its line of severity and rule on; where it ends. */
static const char *finding(const char *line) {
    bool why = false, try = false, message = false;
    for (const char *end; (end = strchr(line, '\n')) && end != line; line = end + 1) {
        size_t length = (size_t)(end - line);
        if (begins(line, "  why  "))
            why = true, sentence("why", line + 7, length - 7), numbers(line, length);
        else if (begins(line, "  try  "))
            try = true, way_out(line + 7, length - 7);
        else if (!message && begins(line, "  "))
            message = true, sentence("message", line + 2, length - 2), numbers(line, length);
    }
    if (!strchr(line, '\n') || !line[1])
        return ""; /* what a test cut off */
    if (!why || !try)
        wrong(why ? "no way out" : "no reason", "", 0);
    return line;
}

static bool is_finding(const char *line) {
    static const char *const names[] = {"ERROR  ", "WARNING  ", "NOTE  "};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (begins(line, names[i])) {
            const char *rule = line + strlen(names[i]);
            size_t n = strcspn(rule, " \n");
            return memchr(rule, '.', n) && islower((unsigned char)*rule);
        }
    return false;
}

void form_of_text(const char *text) {
    for (const char *line = text, *end; (end = strchr(line, '\n')); line = end + 1)
        if (is_finding(line)) {
            unsigned before = CU_get_number_of_failures();
            const char *at = finding(line);
            if (CU_get_number_of_failures() != before)
                fprintf(stderr, "in:\n%.*s\n", (int)(at - line), line);
            if (!*at)
                return;
            end = at;
        }
}

static void text_of(const json_t *finding, const char *key, void (*check)(const char *, size_t)) {
    const char *text = json_string_value(json_object_get(finding, key));
    if (!text)
        wrong(key, "is not there", 12);
    else
        check(text, strlen(text));
}

static void plain_text(const char *text, size_t length) {
    sentence("message or why", text, length);
    numbers(text, length);
}

void form_of_document(const json_t *document) {
    const json_t *findings = json_object_get(document, "findings"), *finding;
    size_t i;
    json_array_foreach(findings, i, finding) {
        unsigned before = CU_get_number_of_failures();
        text_of(finding, "message", plain_text);
        text_of(finding, "why", plain_text);
        text_of(finding, "try", way_out);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "in %s\n", json_string_value(json_object_get(finding, "rule")));
    }
}
