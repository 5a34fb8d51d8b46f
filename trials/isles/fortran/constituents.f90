module constituents
   implicit none
   real(8), parameter :: speeds(2) = [28.984d0, 30.0d0]
end module
