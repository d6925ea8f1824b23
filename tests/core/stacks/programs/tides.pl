package Skerry::Tides;
use strict; use warnings; use Carp qw(carp cluck croak confess);
sub new { my $class = shift; return bless {@_}, $class }
sub level {
    my ($self, $pier) = @_;
    croak "no tide for $pier" unless $self->{$pier}; # FAULT croak level verbose handler closure
}
sub check {
    my ($self, $pier) = @_;
    confess "pier $pier is dry"; # FAULT confess check plain verbose handler closure
}
sub low {
    my ($self, $pier) = @_;
    cluck "low at $pier"; # FAULT cluck low plain verbose
}
sub hint {
    my ($self, $pier) = @_;
    carp "shallow at $pier"; # FAULT carp hint verbose
}
sub sail { die "no sail" } # FAULT die sail handler closure
sub broken {
    my ($self) = @_;
    my %known;
    return $known{fog}->method; # FAULT undefined broken handler closure
}
sub ended {
    confess "no berth\n"; # FAULT newline ended plain verbose handler closure
}
sub tried {
    my ($self, $pier) = @_;
    eval {
        confess "within eval"; # FAULT eval tried plain verbose
    };
    print STDERR $@;
}
sub text_tried {
    my ($self, $pier) = @_;
    eval q{
        Skerry::Tides::inner($pier);
    };
    print STDERR $@;
}
sub inner {
    my ($pier) = @_;
    confess "within text, $pier"; # FAULT text inner plain verbose
}
sub sorted {
    my ($self) = @_;
    my @piers = sort { $self->compare($a, $b) } qw(b a);
}
sub compare {
    my ($self, $left, $right) = @_;
    confess "$left or $right" if $left; # FAULT sort compare plain verbose handler closure
}
sub DESTROY { }
package main;
my $form = $ENV{FORM};
$SIG{__DIE__} = \&Carp::confess if $form eq 'handler';
$SIG{__DIE__} = sub { Carp::confess(@_) } if $form eq 'closure';
my %faults = (
    croak => 'level', confess => 'check', cluck => 'low', carp => 'hint', die => 'sail', undefined => 'broken',
    newline => 'ended', eval => 'tried', text => 'text_tried', sort => 'sorted',
);
sub board {
    my ($how, @rest) = @_;
    my $tides = Skerry::Tides->new(eastholm => 3);
    return $tides->$how(@rest);
}
board($faults{$ARGV[0]}, 'p4');
