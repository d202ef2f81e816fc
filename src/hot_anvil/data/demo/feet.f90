! The same in Fortran: its arrays never overlap, and the compiler knows.
subroutine feet_fortran(levels, feet, n) bind(c)
  use iso_c_binding
  integer(c_int32_t), value :: n
  integer(c_int16_t), intent(in) :: levels(n)
  integer(c_int32_t), intent(out) :: feet(n)
  integer :: i
  do i = 1, n
     feet(i) = int(levels(i), c_int32_t) * 215
  end do
end subroutine
