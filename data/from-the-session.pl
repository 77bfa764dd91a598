# SPDX-License-Identifier: MIT
# Signals as they come out of a session, without recipe and marks: a drum hit, a row of them, tone blocks that were cut by hand, a
# sweep from elsewhere. Writes 24-bit WAV files at 48 kHz into the folder that is given; for the example only.
use strict;
use warnings;

my $folder = shift // '.';
my $rate   = 48000;
my $turn   = 2 * atan2(0, -1);

sub wav {
    my ($name, $samples) = @_;
    my $data = '';
    foreach my $x (@$samples) {
        my $value = sprintf('%.0f', $x * 8388607);
        $data .= substr(pack('l<', $value), 0, 3);
    }
    my $format = pack('v v V V v v', 1, 1, $rate, 3 * $rate, 3, 24);
    open(my $file, '>:raw', "$folder/$name") or die "$folder/$name: $!\n";
    print $file pack('A4 V A4 A4 V', 'RIFF', 36 + length $data, 'WAVE', 'fmt ', 16), $format,
      pack('A4 V', 'data', length $data), $data;
    close($file) or die "$folder/$name: $!\n";
}

sub silence { return (0) x int($_[0] * $rate) }

# Hertz, dBFS, seconds; edges of 2 ms, as a crossfade in a session makes them.
sub tone {
    my ($hz, $db, $seconds) = @_;
    my $count = int($seconds * $rate);
    return map {
        my $edge = ($_ < 96 ? $_ : $count - $_ < 96 ? $count - $_ : 96) / 96;
        $edge * 10**($db / 20) * sin($turn * ($hz * $_ / $rate + 0.1));
    } 0 .. $count - 1;
}

my @hit = map { my $t = $_ / $rate; 0.8 * exp(-14 * $t) * sin($turn * (52 * $t + 4 * (1 - exp(-35 * $t)))) } 0 .. 20000;
wav('hit.wav', [silence(0.2), @hit, silence(0.2)]);

# Sixteen of them as a sequencer plays them, and as a drum machine that hangs on it answered: each by itself late.
foreach my $track (['track.wav', sub { 0 }], ['machine.wav', sub { 96 + 37 * $_[0] % 23 }]) {
    my ($name, $late) = @$track;
    my @track = silence(10);
    foreach my $i (0 .. 15) {
        my $at = int($rate * (0.3 + 0.6 * $i)) + $late->($i);
        $track[$at + $_] += $hit[$_] * (0.6 + 0.4 * ($i % 4 == 0)) foreach 0 .. $#hit;
    }
    wav($name, \@track);
}

# Fifteen steps of 1 kHz, none as long as the other, and a block that a fader made of one tone.
my @blocks = silence(0.41);
foreach my $i (0 .. 14) {
    push @blocks, tone(1000, -60 + 4 * $i, 0.4 + 0.011 * ($i % 4)), silence(0.08 + 0.007 * ($i % 3));
}
push @blocks, silence(0.8);
push @blocks, map {
    my $t = $_ / $rate;
    ($t < 0.507 || $t >= 1.3111 ? 0.01 : 0.4) * sin($turn * (997 * $t + 0.2));
} 0 .. int(2.6 * $rate) - 1;
wav('blocks.wav', [@blocks, silence(0.5)]);

my $speed = log(19500 / 25) / 5;
wav('sweep.wav', [
    silence(0.3),
    (map { 0.5 * sin($turn * 25 * (exp($speed * $_ / $rate) - 1) / $speed) } 0 .. 5 * $rate - 1),
    silence(0.7)]);
