module constants
  real, parameter :: month = 29.53
end module
