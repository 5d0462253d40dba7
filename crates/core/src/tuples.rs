//! The sizes of tuples that traits are implemented for.

/// Calls a macro with the names of the parts of each tuple: of 1 to 16, or of 1 to 8.
macro_rules! for_each_tuple {
    ($each:ident, up_to_16) => {
        for_each_tuple!($each, up_to_15);
        $each! { A B C D E F G H I J K M N O P Q }
    };
    ($each:ident, up_to_15) => {
        for_each_tuple!($each, up_to_8);
        $each! { A B C D E F G H I }
        $each! { A B C D E F G H I J }
        $each! { A B C D E F G H I J K }
        $each! { A B C D E F G H I J K M }
        $each! { A B C D E F G H I J K M N }
        $each! { A B C D E F G H I J K M N O }
        $each! { A B C D E F G H I J K M N O P }
    };
    ($each:ident, up_to_8) => {
        $each! { A }
        $each! { A B }
        $each! { A B C }
        $each! { A B C D }
        $each! { A B C D E }
        $each! { A B C D E F }
        $each! { A B C D E F G }
        $each! { A B C D E F G H }
    };
}
