module Skerry
  class GangwayUp < StandardError; end
  class Gate
    attr_reader :berths
    def open(pier)
      raise GangwayUp, "pier #{pier} is shut" # FAULT raise open
    end
    def level(tides)
      tides[:eastholm].level # FAULT nil level
    end
    def self.make(n)
      raise ArgumentError, "no gate #{n}\nat all" if n < 0 # FAULT class make
    end
    def each_berth
      [1, 2].each do |berth|
        raise GangwayUp, "berth #{berth}" # FAULT block each_berth
      end
    end
    def divide(n)
      1 % n
    end
    def wrapped
      level({})
    rescue NoMethodError
      raise GangwayUp, "no level"
    end
    define_method(:dynamic) do |x|
      x + nil.to_sym # FAULT dynamic <class:Gate>
    end
    def method_missing(name, *args)
      raise NoMethodError, "no #{name} here" # FAULT missing method_missing
    end
    def respond_to_missing?(*) = true
  end
end
def plain(list)
  list.map { |x| undefined_thing(x) } # FAULT plain plain
end
gate = Skerry::Gate.new
case ARGV[0]
when "raise" then gate.open(4)
when "nil" then gate.level({})
when "class" then Skerry::Gate.make(-1)
when "block" then gate.each_berth
when "wrapped" then gate.wrapped
when "dynamic" then gate.dynamic(1)
when "missing" then gate.anything(1)
when "plain" then plain([1])
end
