/* What every board has alike: words to the host by semihosting, numbers and bytes as text, and an end. */
#include <stddef.h>
#include <stdint.h>

long host(long operation, const void *argument);
void leave(int status);
void fault(void);
void say(const char *text);
void number(uint32_t value);
void bytes(const void *from, size_t count);

void leave(int status)
{
    const unsigned long block[2] = {0x20026u, (unsigned long)status};

    host(0x20, block);
    for (;;) {
    }
}

__attribute__((aligned(4))) void fault(void)
{
    say("fault\n");
    leave(9);
}

void say(const char *text)
{
    host(4, text);
}

void number(uint32_t value)
{
    char text[12];
    int at = 11;

    text[at] = 0;
    do {
        text[--at] = (char)('0' + value % 10u);
        value /= 10u;
    } while (value != 0u);
    say(&text[at]);
}

/* In hexadecimal digits, 64 bytes a line. */
void bytes(const void *from, size_t count)
{
    static const char digits[] = "0123456789abcdef";
    const unsigned char *byte = from;
    char text[130];
    size_t n, at = 0;

    for (n = 0; n < count; n++) {
        text[at++] = digits[byte[n] >> 4];
        text[at++] = digits[byte[n] & 15u];
        if (at == 128u || n + 1u == count) {
            text[at++] = '\n';
            text[at] = 0;
            say(text);
            at = 0;
        }
    }
}
