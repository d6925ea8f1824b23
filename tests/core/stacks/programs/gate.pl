package Skerry::Gate;
use strict; use warnings; use Carp qw(confess cluck);
sub new { bless { berths => [] }, shift }
sub open_gate {
    my ($self, $pier) = @_;
    confess "pier $pier is shut"; # FAULT method open_gate
}
sub level {
    my ($tides) = @_;
    confess "no tide" unless $tides->{x}; # FAULT function level
}
sub each_berth {
    my ($self) = @_;
    $self->check($_) for 1 .. 2;
}
sub check {
    my ($self, $n) = @_;
    confess "berth $n" if $n > 1; # FAULT loop check
}
package main;
my $code = sub {
    my $x = shift;
    Carp::confess("closure $x"); # FAULT closure __ANON__
};
my $gate = Skerry::Gate->new;
my %faults = (
    method => sub { $gate->open_gate(4) },
    function => sub { Skerry::Gate::level({}) },
    loop => sub { $gate->each_berth },
    closure => sub { $code->(7) },
);
$faults{$ARGV[0]}->();
