module almanac
  use constants
end module
