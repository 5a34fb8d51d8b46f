module harmonics
   use iso_c_binding
   use constituents, only: speeds
   implicit none
contains
   real(c_double) function height(hour) bind(c)
      real(c_double), value :: hour
      height = sum(cos(speeds * hour * acos(-1d0) / 180d0))
   end function
end module
