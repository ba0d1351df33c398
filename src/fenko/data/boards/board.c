/* A board for Fenko in C, for an 8-bit AVR (ATmega328P, 16 MHz, 115200 baud) and, to be tried, for any computer with a terminal
   (docs/boards.md). Two buttons and a knob; a lamp in each button.

   avr-gcc -mmcu=atmega328p -DF_CPU=16000000UL -Os board.c -o board.elf
   cc -DON_A_COMPUTER board.c -o board */

#include <stdint.h>
#include <stdio.h>
#include <string.h>

#ifdef ON_A_COMPUTER
/* The "pins" are a file of this folder: `red green knob`; what lamps do is written into another. */
#include <poll.h>
#include <stdlib.h>
#include <unistd.h>
static void begin(void) {}
static void put(char letter) { if (write(1, &letter, 1) < 0) exit(1); }
static int get(char *letter) {
  struct pollfd in = {0, POLLIN, 0};
  if (poll(&in, 1, 5) <= 0) return 0;
  if (read(0, letter, 1) <= 0) exit(0);
  return 1;
}
static void look(int *red, int *green, int *knob) {
  FILE *pins = fopen("pins", "r");
  if (pins && fscanf(pins, "%d %d %d", red, green, knob) != 3) *red = *green = *knob = 0;
  if (pins) fclose(pins);
}
static void lamp(const char *name, int on) {
  FILE *lamps = fopen("lamps", "a");
  if (lamps) { fprintf(lamps, "%s %d\n", name, on); fclose(lamps); }
}
#else
#include <avr/io.h>
static void begin(void) {
  UCSR0A = 1 << U2X0;
  UBRR0 = F_CPU / 8 / 115200 - 1;
  UCSR0B = 1 << RXEN0 | 1 << TXEN0;
  DDRB = 3;                                      /* lamps: B0, B1 */
  PORTD = 1 << 2 | 1 << 3;                       /* buttons to ground: D2, D3 */
  ADMUX = 1 << REFS0;                            /* knob: A0 */
  ADCSRA = 1 << ADEN | 7;
}
static void put(char letter) { while (!(UCSR0A & 1 << UDRE0)) {} UDR0 = letter; }
static int get(char *letter) {
  if (!(UCSR0A & 1 << RXC0)) return 0;
  *letter = UDR0;
  return 1;
}
static void look(int *red, int *green, int *knob) {
  ADCSRA |= 1 << ADSC;
  while (ADCSRA & 1 << ADSC) {}
  *red = !(PIND & 1 << 2);
  *green = !(PIND & 1 << 3);
  *knob = ADC & ~3;                              /* the last bits only tremble */
}
static void lamp(const char *name, int on) {
  uint8_t bit = strcmp(name, "red") ? 2 : 1;
  if (on) PORTB |= bit; else PORTB &= ~bit;
}
#endif

static void say(const char *text) { while (*text) put(*text++); put('\n'); }
static void tell(const char *name, int value) {
  char line[32];
  snprintf(line, sizeof line, "is %s %d", name, value);
  say(line);
}

static int known[3];                             /* what was told last */

static void report(void) {
  static const char *const names[3] = {"red", "green", "knob"};
  int now[3] = {0, 0, 0};
  look(&now[0], &now[1], &now[2]);
  for (uint8_t one = 0; one < 3; one++)
    if (now[one] != known[one]) tell(names[one], known[one] = now[one]);
}

static void introduce(void) {
  say("board 1 bench-box Bench box");
  say("has red button");
  say("has green button");
  say("has knob fader 0 1023");
  say("can lamp red");
  say("can lamp green");
  say("can alive");
  report();                                      /* how everything stands; what hands do comes behind `ready` */
  say("ready");
}

static void obey(char *line) {
  char *word = strtok(line, " "), *name = strtok(NULL, " "), *to = strtok(NULL, " ");
  if (!word) return;
  if (!strcmp(word, "fenko")) introduce();
  else if (!strcmp(word, "alive")) say("alive");
  else if (!strcmp(word, "rest")) { lamp("red", 0); lamp("green", 0); }
  else if (!strcmp(word, "lamp") && name && to) lamp(name, strcmp(to, "off") != 0);
}

int main(void) {
  char line[121], letter;
  uint8_t length = 0;
  begin();
  introduce();
  for (;;) {
    while (get(&letter)) {
      if (letter != '\n') { if (length < 120) line[length++] = letter; continue; }
      line[length] = 0;
      length = 0;
      obey(line);
    }
    report();
  }
}
